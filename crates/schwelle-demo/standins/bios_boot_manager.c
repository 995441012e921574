/*
 * The stand-in for a Windows' boot manager in BIOS mode (\bootmgr): a program that a boot record loads to 2000h:0
 * and runs in real mode, with the drive's number in DL and the volume's boot sector at 0:7C00h.
 *
 * It says that it was started, whether every byte of it has arrived (its last four bytes are the sum of the others),
 * reads \Boot\BCD from the volume it came from, says what it found, and powers the machine off. Disk reads by
 * interrupt 13h, function 42h; the FAT by its specification; power-off by the port that the emulator's chipset has.
 */
typedef unsigned int u32;
typedef unsigned short u16;
typedef unsigned char u8;

#define BPB 0x7C00u
#define WORK 0x8000u /* one sector, at 0:8000h */

/* This part of the file is zeros: the drive's number and the stack while the program runs, left out of the sum. */
#define STACK_FROM 0x8000u
#define STACK_TO 0x10000u

extern u32 drive;
extern u32 file_bytes; /* set by pack_bios.py */

static u8 byte_at(u32 linear) {
    u8 value;
    __asm__ volatile("pushw %%fs; movw %w1, %%fs; movb %%fs:(%2), %0; popw %%fs"
                     : "=q"(value)
                     : "r"(linear >> 4), "r"(linear & 15));
    return value;
}

static u32 word_at(u32 linear, u32 bytes) {
    u32 value = 0;
    while (bytes--) value = value << 8 | byte_at(linear + bytes);
    return value;
}

static void say(const char *text) {
    for (; *text; text++)
        __asm__ volatile("int $0x10" : : "a"(0x0E00 | (u8)*text), "b"(7));
}

/* Reads a sector to WORK. */
static int read_sector(u32 lba) {
    struct { u16 len, sectors, offset, segment; u32 lba, lba_high; } packet = {16, 1, WORK, 0, lba, 0};
    u32 result;
    __asm__ volatile("int $0x13; sbbl %0, %0"
                     : "=a"(result)
                     : "a"(0x4200), "d"(drive), "S"(&packet), "m"(packet)
                     : "cc", "memory");
    return result == 0;
}

static u32 fat_lba, data_lba, cluster_sectors;

static u32 follow(u32 cluster) {
    if (!read_sector(fat_lba + cluster / 128)) return 0x0FFFFFFF;
    return word_at(WORK + cluster % 128 * 4, 4) & 0x0FFFFFFF;
}

/* The first cluster of the entry with this name in the folder at this cluster; 0 when there is none. */
static u32 find(u32 folder, const char *name) {
    for (u32 cluster = folder; cluster < 0x0FFFFFF8; cluster = follow(cluster))
        for (u32 sector = 0; sector < cluster_sectors; sector++) {
            if (!read_sector(data_lba + (cluster - 2) * cluster_sectors + sector)) return 0;
            for (u32 entry = WORK; entry < WORK + 512; entry += 32) {
                u32 same = 1;
                for (u32 at = 0; at < 11; at++) same &= byte_at(entry + at) == (u8)name[at];
                if (same) return word_at(entry + 20, 2) << 16 | word_at(entry + 26, 2);
            }
        }
    return 0;
}

static int store_found(void) {
    fat_lba = word_at(BPB + 28, 4) + word_at(BPB + 14, 2);
    data_lba = fat_lba + byte_at(BPB + 16) * word_at(BPB + 36, 4);
    cluster_sectors = byte_at(BPB + 13);
    u32 folder = find(word_at(BPB + 44, 4), "BOOT       ");
    u32 store = folder ? find(folder, "BCD        ") : 0;
    if (!store || !read_sector(data_lba + (store - 2) * cluster_sectors)) return 0;
    return word_at(WORK, 4) == 0x66676572; /* "regf" */
}

static int is_whole(void) {
    u32 sum = 0;
    for (u32 at = 0; at < file_bytes - 4; at++)
        if (at < STACK_FROM || at >= STACK_TO) sum = sum * 31 + byte_at(0x20000 + at);
    return sum == word_at(0x20000 + file_bytes - 4, 4);
}

void run(void) {
    say("SCHWELLE-DEMO BIOS boot manager: ");
    say(is_whole() ? "started, and whole\r\n" : "started, and NOT WHOLE\r\n");
    say(store_found() ? "SCHWELLE-DEMO BIOS boot manager: boot store found\r\n"
                      : "SCHWELLE-DEMO BIOS boot manager: boot store MISSING\r\n");
    __asm__ volatile("outw %w0, %w1" : : "a"(0x2000), "d"(0x604));
    for (;;) __asm__ volatile("hlt");
}

/* The head of the file: the segments, a stack, and the C code's way in. */
__asm__(".code16\n"
        ".section .head, \"ax\"\n"
        ".globl _start, drive, file_bytes\n"
        ".set drive, 0x8000\n"
        "_start: jmp 1f\n"
        ".balign 4\n"
        "file_bytes: .long 0\n"
        "1: movw %cs, %ax\n"
        "movw %ax, %ds\n"
        "movw %ax, %es\n"
        "movw %ax, %ss\n"
        "movl $0xFFF0, %esp\n"
        "movzbl %dl, %edx\n"
        "movl %edx, drive\n"
        "cld\n"
        "calll run\n"
        ".code32\n");
