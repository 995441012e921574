/* A stand-in for disks, as a driver for an implementation of Windows that has none: each file C:\disks\N.img is the disk
 * \\.\PhysicalDriveN. Beside it may lie
 *   N.4096      its sectors have 4096 bytes; else 512
 *   N.readonly  it is protected from writing
 *   N.bad       8 bytes, little-endian: the first sector that cannot be written
 *   N.volumes   records of struct place: volumes that are there already, and now lie on this disk
 * Requests: geometry, length, number, identity, alignment, is it writable, read the table again. As a real disk does, it
 * refuses transfers that are not whole sectors.
 */
#include <ntddk.h>
#include <ntdddisk.h>
#include <ntddstor.h>
#include <ntddvol.h>

#define DISKS 32

/* The kit's headers do not declare it. */
NTSTATUS NTAPI ZwFlushBuffersFile(HANDLE file, IO_STATUS_BLOCK *status);

struct place {
    LONGLONG first_byte, bytes;
    WCHAR link[56]; /* \??\Volume{...}, ends with 0 */
};

struct disk {
    int number;
    struct place volume; /* of a volume; all 0 for a disk */
    ULONG sector;
    LARGE_INTEGER length;
    HANDLE file;
};

static const char MODEL[] = "Made Up Disk";

static UNICODE_STRING *path_of(int number, const WCHAR *kind, WCHAR *buffer, UNICODE_STRING *path)
{
    WCHAR *at = buffer;
    const WCHAR *part;
    for (part = L"\\??\\C:\\disks\\"; *part; part++) *at++ = *part;
    if (number >= 10) *at++ = L'0' + number / 10;
    *at++ = L'0' + number % 10;
    for (part = kind; *part; part++) *at++ = *part;
    *at = 0;
    RtlInitUnicodeString(path, buffer);
    return path;
}

static NTSTATUS open_beside(int number, const WCHAR *kind, ACCESS_MASK access, HANDLE *file)
{
    WCHAR buffer[64];
    UNICODE_STRING path;
    OBJECT_ATTRIBUTES attributes;
    IO_STATUS_BLOCK status;
    InitializeObjectAttributes(&attributes, path_of(number, kind, buffer, &path), OBJ_CASE_INSENSITIVE, NULL, NULL);
    return ZwCreateFile(file, access | SYNCHRONIZE, &attributes, &status, NULL, 0, FILE_SHARE_READ | FILE_SHARE_WRITE,
                        FILE_OPEN, FILE_SYNCHRONOUS_IO_NONALERT, NULL, 0);
}

static BOOLEAN is_beside(int number, const WCHAR *kind)
{
    HANDLE file;
    if (open_beside(number, kind, FILE_READ_DATA, &file)) return FALSE;
    ZwClose(file);
    return TRUE;
}

/* The first byte that cannot be written. */
static LONGLONG bad_from(struct disk *disk)
{
    HANDLE file;
    IO_STATUS_BLOCK status;
    LARGE_INTEGER lba, zero;
    zero.QuadPart = 0;
    lba.QuadPart = -1;
    if (open_beside(disk->number, L".bad", FILE_READ_DATA, &file)) return -1;
    ZwReadFile(file, NULL, NULL, NULL, &status, &lba, sizeof(lba), &zero, NULL);
    ZwClose(file);
    return lba.QuadPart < 0 ? -1 : lba.QuadPart * disk->sector;
}

static NTSTATUS done(IRP *irp, NTSTATUS status, ULONG_PTR bytes)
{
    irp->IoStatus.Status = status;
    irp->IoStatus.Information = bytes;
    IoCompleteRequest(irp, IO_NO_INCREMENT);
    return status;
}

static NTSTATUS WINAPI succeed(DEVICE_OBJECT *device, IRP *irp)
{
    return done(irp, STATUS_SUCCESS, 0);
}

static NTSTATUS WINAPI flush(DEVICE_OBJECT *device, IRP *irp)
{
    struct disk *disk = device->DeviceExtension;
    IO_STATUS_BLOCK status;
    return done(irp, disk->sector ? ZwFlushBuffersFile(disk->file, &status) : STATUS_SUCCESS, 0);
}

static NTSTATUS WINAPI transfer(DEVICE_OBJECT *device, IRP *irp)
{
    struct disk *disk = device->DeviceExtension;
    IO_STACK_LOCATION *stack = IoGetCurrentIrpStackLocation(irp);
    BOOLEAN is_read = stack->MajorFunction == IRP_MJ_READ;
    LARGE_INTEGER at = is_read ? stack->Parameters.Read.ByteOffset : stack->Parameters.Write.ByteOffset;
    ULONG length = is_read ? stack->Parameters.Read.Length : stack->Parameters.Write.Length;
    IO_STATUS_BLOCK status;
    NTSTATUS result;
    LONGLONG bad;

    if (!disk->sector) return done(irp, STATUS_INVALID_DEVICE_REQUEST, 0);
    if (at.QuadPart % disk->sector || length % disk->sector) return done(irp, STATUS_INVALID_PARAMETER, 0);
    if (at.QuadPart < 0 || at.QuadPart + length > disk->length.QuadPart) return done(irp, STATUS_INVALID_PARAMETER, 0);
    if (is_read) {
        result = ZwReadFile(disk->file, NULL, NULL, NULL, &status, irp->AssociatedIrp.SystemBuffer, length, &at, NULL);
        return done(irp, result, status.Information);
    }
    if (is_beside(disk->number, L".readonly")) return done(irp, STATUS_MEDIA_WRITE_PROTECTED, 0);
    bad = bad_from(disk);
    if (bad >= 0 && at.QuadPart + length > bad) return done(irp, STATUS_IO_DEVICE_ERROR, 0);
    result = ZwWriteFile(disk->file, NULL, NULL, NULL, &status, irp->AssociatedIrp.SystemBuffer, length, &at, NULL);
    return done(irp, result, status.Information);
}

/* Answers a query about the disk; the bytes answered. */
static ULONG property(struct disk *disk, ULONG id, char *out, ULONG room)
{
    if (id == StorageDeviceProperty && room >= 128) {
        STORAGE_DEVICE_DESCRIPTOR *found = (STORAGE_DEVICE_DESCRIPTOR *)out;
        RtlZeroMemory(out, 128);
        found->Version = sizeof(*found);
        found->Size = 128;
        found->BusType = BusTypeSata;
        found->ProductIdOffset = 64;
        RtlCopyMemory(out + 64, MODEL, sizeof(MODEL));
        found->SerialNumberOffset = 96;
        RtlCopyMemory(out + 96, "  MADE-UP-0", 12);
        out[96 + 10] = '0' + disk->number % 10;
        return 128;
    }
    if (id == StorageAccessAlignmentProperty && room >= sizeof(STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR)) {
        STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR *found = (STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR *)out;
        RtlZeroMemory(found, sizeof(*found));
        found->Version = found->Size = sizeof(*found);
        found->BytesPerLogicalSector = disk->sector;
        found->BytesPerPhysicalSector = 4096;
        return sizeof(*found);
    }
    return 0;
}

static NTSTATUS WINAPI control(DEVICE_OBJECT *device, IRP *irp)
{
    struct disk *disk = device->DeviceExtension;
    IO_STACK_LOCATION *stack = IoGetCurrentIrpStackLocation(irp);
    ULONG room = stack->Parameters.DeviceIoControl.OutputBufferLength;
    ULONG given = stack->Parameters.DeviceIoControl.InputBufferLength;
    char *buffer = irp->AssociatedIrp.SystemBuffer;
    ULONG bytes = 0;

    switch (stack->Parameters.DeviceIoControl.IoControlCode) {
    case IOCTL_DISK_GET_DRIVE_GEOMETRY_EX: {
        DISK_GEOMETRY_EX found;
        if (room < sizeof(found)) return done(irp, STATUS_BUFFER_TOO_SMALL, 0);
        RtlZeroMemory(&found, sizeof(found));
        found.Geometry.MediaType = FixedMedia;
        found.Geometry.TracksPerCylinder = 255;
        found.Geometry.SectorsPerTrack = 63;
        found.Geometry.BytesPerSector = disk->sector;
        found.Geometry.Cylinders.QuadPart = disk->length.QuadPart / (255 * 63 * disk->sector);
        found.DiskSize = disk->length;
        RtlCopyMemory(buffer, &found, sizeof(found));
        return done(irp, STATUS_SUCCESS, sizeof(found));
    }
    case IOCTL_DISK_GET_LENGTH_INFO:
        if (room < sizeof(disk->length)) return done(irp, STATUS_BUFFER_TOO_SMALL, 0);
        RtlCopyMemory(buffer, &disk->length, sizeof(disk->length));
        return done(irp, STATUS_SUCCESS, sizeof(disk->length));
    case IOCTL_STORAGE_GET_DEVICE_NUMBER: {
        STORAGE_DEVICE_NUMBER found = {FILE_DEVICE_DISK, disk->number, 0};
        if (room < sizeof(found)) return done(irp, STATUS_BUFFER_TOO_SMALL, 0);
        RtlCopyMemory(buffer, &found, sizeof(found));
        return done(irp, STATUS_SUCCESS, sizeof(found));
    }
    case IOCTL_STORAGE_QUERY_PROPERTY:
        if (given >= 8) bytes = property(disk, ((STORAGE_PROPERTY_QUERY *)buffer)->PropertyId, buffer, room);
        return done(irp, bytes ? STATUS_SUCCESS : STATUS_INVALID_PARAMETER, bytes);
    case IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS: {
        VOLUME_DISK_EXTENTS found;
        if (!disk->volume.bytes) break;
        if (room < sizeof(found)) return done(irp, STATUS_BUFFER_TOO_SMALL, 0);
        RtlZeroMemory(&found, sizeof(found));
        found.NumberOfDiskExtents = 1;
        found.Extents[0].DiskNumber = disk->number;
        found.Extents[0].StartingOffset.QuadPart = disk->volume.first_byte;
        found.Extents[0].ExtentLength.QuadPart = disk->volume.bytes;
        RtlCopyMemory(buffer, &found, sizeof(found));
        return done(irp, STATUS_SUCCESS, sizeof(found));
    }
    case IOCTL_DISK_IS_WRITABLE:
        return done(irp, is_beside(disk->number, L".readonly") ? STATUS_MEDIA_WRITE_PROTECTED : STATUS_SUCCESS, 0);
    case IOCTL_DISK_UPDATE_PROPERTIES:
        return done(irp, STATUS_SUCCESS, 0);
    }
    return done(irp, STATUS_INVALID_DEVICE_REQUEST, 0);
}

static void add(DRIVER_OBJECT *driver, int number)
{
    WCHAR name_buffer[40] = L"\\Device\\StandInDisk00", link_buffer[40] = L"\\??\\PhysicalDrive";
    UNICODE_STRING name, link;
    FILE_STANDARD_INFORMATION about;
    IO_STATUS_BLOCK status;
    DEVICE_OBJECT *device;
    struct disk *disk;
    HANDLE file;
    int end = 17;

    if (open_beside(number, L".img", FILE_READ_DATA | FILE_WRITE_DATA, &file)) return;
    name_buffer[19] = L'0' + number / 10;
    name_buffer[20] = L'0' + number % 10;
    if (number >= 10) link_buffer[end++] = L'0' + number / 10;
    link_buffer[end++] = L'0' + number % 10;
    link_buffer[end] = 0;
    RtlInitUnicodeString(&name, name_buffer);
    RtlInitUnicodeString(&link, link_buffer);
    if (IoCreateDevice(driver, sizeof(*disk), &name, FILE_DEVICE_DISK, 0, FALSE, &device)) return;
    disk = device->DeviceExtension;
    disk->number = number;
    disk->sector = is_beside(number, L".4096") ? 4096 : 512;
    disk->file = file;
    ZwQueryInformationFile(file, &status, &about, sizeof(about), FileStandardInformation);
    disk->length = about.EndOfFile;
    device->Flags |= DO_BUFFERED_IO;
    device->Flags &= ~DO_DEVICE_INITIALIZING;
    IoCreateSymbolicLink(&link, &name);
}

/* Has a volume's name lead to a device of ours. */
static void add_volume(DRIVER_OBJECT *driver, int number, struct place *place, int count)
{
    WCHAR name_buffer[40] = L"\\Device\\StandInVolume000";
    UNICODE_STRING name, link;
    DEVICE_OBJECT *device;
    struct disk *disk;

    name_buffer[21] = L'0' + number / 10;
    name_buffer[22] = L'0' + number % 10;
    name_buffer[23] = L'0' + count % 10;
    RtlInitUnicodeString(&name, name_buffer);
    RtlInitUnicodeString(&link, place->link);
    if (IoCreateDevice(driver, sizeof(*disk), &name, FILE_DEVICE_DISK, 0, FALSE, &device)) return;
    disk = device->DeviceExtension;
    disk->number = number;
    disk->volume = *place;
    device->Flags |= DO_BUFFERED_IO;
    device->Flags &= ~DO_DEVICE_INITIALIZING;
    IoDeleteSymbolicLink(&link);
    IoCreateSymbolicLink(&link, &name);
}

static void add_volumes(DRIVER_OBJECT *driver, int number)
{
    struct place place;
    IO_STATUS_BLOCK status;
    LARGE_INTEGER at;
    HANDLE file;
    int count = 0;

    if (open_beside(number, L".volumes", FILE_READ_DATA, &file)) return;
    at.QuadPart = 0;
    while (!ZwReadFile(file, NULL, NULL, NULL, &status, &place, sizeof(place), &at, NULL)
           && status.Information == sizeof(place)) {
        add_volume(driver, number, &place, count++);
        at.QuadPart += sizeof(place);
    }
    ZwClose(file);
}

static void WINAPI unload(DRIVER_OBJECT *driver)
{
}

NTSTATUS WINAPI DriverEntry(DRIVER_OBJECT *driver, UNICODE_STRING *path)
{
    int number;
    driver->MajorFunction[IRP_MJ_CREATE] = succeed;
    driver->MajorFunction[IRP_MJ_CLOSE] = succeed;
    driver->MajorFunction[IRP_MJ_CLEANUP] = succeed;
    driver->MajorFunction[IRP_MJ_READ] = transfer;
    driver->MajorFunction[IRP_MJ_WRITE] = transfer;
    driver->MajorFunction[IRP_MJ_FLUSH_BUFFERS] = flush;
    driver->MajorFunction[IRP_MJ_DEVICE_CONTROL] = control;
    driver->DriverUnload = unload;
    for (number = 1; number < DISKS; number++) {
        add(driver, number);
        add_volumes(driver, number);
    }
    return STATUS_SUCCESS;
}
