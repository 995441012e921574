/*
 * The stand-in boot manager of the demo disks: a real EFI application that firmware can start.
 *
 * It says on the console that it was started, looks for the boot store beside it on the partition it came
 * from, says what it found, and powers the machine off. Structures: UEFI 2.10, sections 4.3 (system table),
 * 9.1 (loaded image), 12.4 (console output), 13.4 and 13.5 (file protocols). Only the members used are typed;
 * the others keep their place as `void *`.
 */
typedef unsigned long long u64;
typedef unsigned int u32;
typedef unsigned short u16;
typedef unsigned char u8;
typedef struct { u32 a; u16 b, c; u8 d[8]; } Guid;

#define ERROR_BIT (1ULL << 63)
#define EFIAPI __attribute__((ms_abi))

typedef struct Text {
    void *reset;
    u64(EFIAPI *output)(struct Text *, const u16 *);
} Text;

typedef struct File {
    u64 revision;
    u64(EFIAPI *open)(struct File *, struct File **, const u16 *, u64 mode, u64 attributes);
    u64(EFIAPI *close)(struct File *);
    void *delete_;
    u64(EFIAPI *read)(struct File *, u64 *size, void *buffer);
} File;

typedef struct FileSystem {
    u64 revision;
    u64(EFIAPI *open_volume)(struct FileSystem *, File **root);
} FileSystem;

typedef struct {
    u32 revision, pad;
    void *parent, *system_table, *device;
} LoadedImage;

typedef struct {
    u8 header[24];
    void *raise_tpl[2], *memory[5], *events[6], *protocols[3];
    u64(EFIAPI *handle_protocol)(void *handle, const Guid *, void **interface);
} BootServices;

typedef struct {
    u8 header[24];
    void *time[4], *virtual_memory[2], *variables[3], *next_high;
    void(EFIAPI *reset)(u32 kind, u64 status, u64 size, void *data);
} RuntimeServices;

typedef struct {
    u8 header[24];
    u16 *vendor;
    u32 revision, pad;
    void *in_handle, *in, *out_handle;
    Text *out;
    void *err_handle, *err;
    RuntimeServices *runtime;
    BootServices *boot;
} SystemTable;

static const Guid LOADED_IMAGE = {0x5B1B31A1, 0x9562, 0x11D2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const Guid FILE_SYSTEM = {0x964E5B22, 0x6459, 0x11D2, {0x8E, 0x39, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};

static u8 buffer[4096];

/* True when the boot store lies beside the boot manager and begins like a registry hive. */
static int store_found(void *image, SystemTable *system) {
    LoadedImage *loaded;
    FileSystem *files;
    File *root, *store;
    u64 size = sizeof buffer;

    if (system->boot->handle_protocol(image, &LOADED_IMAGE, (void **)&loaded) & ERROR_BIT) return 0;
    if (system->boot->handle_protocol(loaded->device, &FILE_SYSTEM, (void **)&files) & ERROR_BIT) return 0;
    if (files->open_volume(files, &root) & ERROR_BIT) return 0;
    if (root->open(root, &store, (const u16 *)L"\\EFI\\Microsoft\\Boot\\BCD", 1, 0) & ERROR_BIT) return 0;
    if (store->read(store, &size, buffer) & ERROR_BIT) return 0;
    return size == sizeof buffer && buffer[0] == 'r' && buffer[1] == 'e' && buffer[2] == 'g' && buffer[3] == 'f';
}

u64 EFIAPI efi_main(void *image, SystemTable *system) {
    system->out->output(system->out, (const u16 *)L"SCHWELLE-DEMO boot manager: started by this firmware\r\n");
    if (store_found(image, system))
        system->out->output(system->out, (const u16 *)L"SCHWELLE-DEMO boot manager: boot store found\r\n");
    else
        system->out->output(system->out, (const u16 *)L"SCHWELLE-DEMO boot manager: boot store MISSING\r\n");
    system->runtime->reset(2 /* shutdown */, 0, 0, 0);
    for (;;) {}
}
