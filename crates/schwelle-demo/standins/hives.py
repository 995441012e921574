#!/usr/bin/python3
"""Makes the registry hives and the BCD store of the demo disks with a hive library (package python3-hivex).

Usage: hives.py FOLDER. Writes SYSTEM, SOFTWARE, BCD and ReAgent.xml into FOLDER. The disk signature, the partition offsets and
the computer's name are those of the base disk; the demo crate puts each disk's own values in their place.
"""
import struct
import sys
import uuid

import hivex

SIGNATURE = 0x51C3A7E5
BOOT_OFFSET = 1 << 20
WINDOWS_OFFSET = 51 << 20
COMPUTER = "LANTERN-ONE"

REG_SZ, REG_BINARY, REG_DWORD, REG_MULTI_SZ = 1, 3, 4, 7


def empty_hive(path, root_name):
    """A hive of one root key and one free cell; hive libraries edit hives but do not make them."""
    name = root_name.encode("ascii")
    nk = struct.pack("<2sHQIIIIIIIIIIIIIIIHH", b"nk", 0x2C, 0, 0, 0xFFFFFFFF, 0, 0, 0xFFFFFFFF, 0xFFFFFFFF, 0,
                     0xFFFFFFFF, 0x80, 0xFFFFFFFF, 0, 0, 0, 0, 0, len(name), 0) + name
    # A security cell of its own, as every key must name one: a self-linked ring of length one.
    descriptor = bytes.fromhex("0100048014000000240000000000000034000000"
                               "01020000000000052000000020020000"
                               "010200000000000520000000200200000200080000000000")
    nk_len = (4 + len(nk) + 7) // 8 * 8
    sk_at = 0x20 + nk_len
    sk = struct.pack("<2sHIIII", b"sk", 0, sk_at, sk_at, 1, len(descriptor)) + descriptor
    sk_len = (4 + len(sk) + 7) // 8 * 8
    body = struct.pack("<i", -nk_len) + nk.ljust(nk_len - 4, b"\0")
    body += struct.pack("<i", -sk_len) + sk.ljust(sk_len - 4, b"\0")
    free = 4096 - 0x20 - len(body)
    body += struct.pack("<i", free) + b"\0" * (free - 4)
    body = bytearray(struct.pack("<4sIIQQI", b"hbin", 0, 4096, 0, 0, 0) + body)
    # nk: +44 security cell (after the cell's size and the 2-byte signature and flags).
    struct.pack_into("<I", body, 0x20 + 4 + 44, sk_at)
    base = bytearray(4096)
    struct.pack_into("<4sIIQIIIIIII", base, 0, b"regf", 1, 1, 0, 1, 5, 0, 1, 0x20, 4096, 1)
    check = 0
    for (word,) in struct.iter_unpack("<I", bytes(base[:0x1FC])):
        check ^= word
    struct.pack_into("<I", base, 0x1FC, {0: 1, 0xFFFFFFFF: 0xFFFFFFFE}.get(check, check))
    with open(path, "wb") as out:
        out.write(base + body)


def text(value):
    return REG_SZ, (value + "\0").encode("utf-16-le")


def texts(values):
    return REG_MULTI_SZ, ("\0".join(values) + "\0\0").encode("utf-16-le")


def dword(value):
    return REG_DWORD, struct.pack("<I", value)


class Editor:
    def __init__(self, path, root_name):
        empty_hive(path, root_name)
        self.hive = hivex.Hivex(path, write=True)

    def key(self, path):
        node = self.hive.root()
        for part in path.split("\\"):
            node = self.hive.node_get_child(node, part) or self.hive.node_add_child(node, part)
        return node

    def put(self, path, values):
        self.hive.node_set_values(
            self.key(path), [{"key": k, "t": t, "value": v} for k, (t, v) in values.items()])

    def save(self):
        self.hive.commit(None)


def system(path):
    edit = Editor(path, "ROOT")
    edit.put("Select", {"Current": dword(1), "Default": dword(1), "Failed": dword(0), "LastKnownGood": dword(1)})
    control = "ControlSet001\\Control"
    edit.put(control, {"FirmwareBootDevice": text("multi(0)disk(0)rdisk(0)partition(1)"),
                       "SystemBootDevice": text("multi(0)disk(0)rdisk(0)partition(2)")})
    edit.put(control + "\\ComputerName\\ComputerName", {"ComputerName": text(COMPUTER)})
    here = lambda offset: (REG_BINARY, struct.pack("<IQ", SIGNATURE, offset))
    mounted = {"\\DosDevices\\C:": here(WINDOWS_OFFSET),
               "\\DosDevices\\D:": (REG_BINARY, "\\??\\IDE#CdRomLamp#1".encode("utf-16-le")),
               "\\DosDevices\\E:": (REG_BINARY, struct.pack("<IQ", 0x0BADCAFE, 1 << 20)),
               "\\??\\Volume{7a5f0c11-51c3-11f0-9a44-0c5e9b1f7701}": here(BOOT_OFFSET),
               "\\??\\Volume{7a5f0c12-51c3-11f0-9a44-0c5e9b1f7701}": here(WINDOWS_OFFSET)}
    edit.put("MountedDevices", mounted)
    for number in range(60):
        edit.put(f"ControlSet001\\Services\\demo{number:03}", {"Start": dword(number % 5)})
    edit.save()


def recovery(path):
    """The recovery environment's configuration: on the boot volume, switched on."""
    nowhere = 'path="" id="0" offset="0" guid="{00000000-0000-0000-0000-000000000000}"'
    text = f"""<?xml version='1.0' encoding='utf-8'?>

<WindowsRE version="2.0">
  <WinreBCD id="{RECOVERY}"/>
  <WinreLocation path="\\Recovery\\WindowsRE" id="{SIGNATURE}" offset="{BOOT_OFFSET}" guid="{{00000000-0000-0000-0000-000000000000}}"/>
  <ImageLocation {nowhere}/>
  <InstallState state="1"/>
  <OsInstallAvailable state="0"/>
  <CustomImageAvailable state="0"/>
  <IsAutoRepairOn state="1"/>
  <WinREStaged state="0"/>
  <OperationParam path=""/>
  <OperationPermanent state="0"/>
  <OemTool state="0"/>
  <DownlevelWinreLocation {nowhere}/>
  <IsWimBoot state="0"/>
  <ScheduledOperation state="4"/>
</WindowsRE>
"""
    with open(path, "w", encoding="utf-8", newline="\r\n") as out:
        out.write(text)


def software(path):
    edit = Editor(path, "ROOT")
    edit.put("Microsoft\\Windows NT\\CurrentVersion", {
        "ProductName": text("Windows 10 Pro"), "CurrentBuild": text("19045"), "DisplayVersion": text("22H2"),
        "EditionID": text("Professional")})
    edit.save()


MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
MEMTEST = "{b2721d73-1db4-4c62-bf78-c548a880142d}"
GLOBALS = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}"
LOADER_GLOBALS = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
WINDOWS = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7701}"
RESUME = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7702}"
RECOVERY = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7703}"
RAMDISK = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7704}"
SAFE = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7705}"


def locator(offset):
    return struct.pack("<IIIIQQIIIIQ16x", 6, 0, 0x48, 0, offset, 0, 0, 1, SIGNATURE, 0, 0)


def partition(offset):
    return REG_BINARY, bytes(16) + locator(offset)


def ramdisk(offset, path):
    """A RAM disk from a file on a partition: the partition's locator stands inside, before the path."""
    inner = locator(offset)
    tail = (path + "\0").encode("utf-16-le")
    body = struct.pack("<IIIII", 3, 0, 0, 0, 0) + inner + tail
    head = struct.pack("<IIII", 0, 0, 16 + len(body), 0)
    return REG_BINARY, uuid.UUID(RAMDISK).bytes_le + head + body


def boolean(value):
    return REG_BINARY, bytes([value])


def integer(value):
    return REG_BINARY, struct.pack("<Q", value)


def bcd_store(path):
    edit = Editor(path, "NewStoreRoot")
    edit.put("Description", {"KeyName": text("BCD00000000"), "System": dword(1), "TreatAsSystem": dword(1)})

    def obj(guid, kind, elements):
        edit.put(f"Objects\\{guid}\\Description", {"Type": dword(kind)})
        for number, value in elements.items():
            edit.put(f"Objects\\{guid}\\Elements\\{number:08x}", {"Element": value})

    obj(MANAGER, 0x10100002, {
        0x11000001: partition(BOOT_OFFSET), 0x12000004: text("Windows Boot Manager"), 0x12000005: text("de-DE"),
        0x14000006: texts([GLOBALS]), 0x23000003: text(WINDOWS), 0x23000006: text(RESUME),
        0x24000001: texts([WINDOWS, SAFE]), 0x24000010: texts([MEMTEST]), 0x25000004: integer(12)})
    obj(WINDOWS, 0x10200003, {
        0x11000001: partition(WINDOWS_OFFSET), 0x12000002: text("\\Windows\\system32\\winload.exe"),
        0x12000004: text("Windows 10"), 0x12000005: text("de-DE"), 0x14000006: texts([LOADER_GLOBALS]),
        0x14000008: texts([RECOVERY]), 0x16000009: boolean(1), 0x21000001: partition(WINDOWS_OFFSET),
        0x22000002: text("\\Windows"), 0x23000003: text(RESUME), 0x25000020: integer(1)})
    obj(SAFE, 0x10200003, {
        0x11000001: partition(WINDOWS_OFFSET), 0x12000002: text("\\Windows\\system32\\winload.exe"),
        0x12000004: text("Windows 10 (night watch, quiet screen)"), 0x12000005: text("de-DE"),
        0x14000006: texts([LOADER_GLOBALS]), 0x21000001: partition(WINDOWS_OFFSET), 0x22000002: text("\\Windows"),
        0x23000003: text(RESUME), 0x26000022: boolean(1)})
    obj(RESUME, 0x10200004, {
        0x11000001: partition(WINDOWS_OFFSET), 0x12000002: text("\\Windows\\system32\\winresume.exe"),
        0x12000004: text("Windows Resume Application"), 0x12000005: text("de-DE"),
        0x21000001: partition(WINDOWS_OFFSET), 0x22000002: text("\\hiberfil.sys")})
    obj(RECOVERY, 0x10200003, {
        0x11000001: ramdisk(BOOT_OFFSET, "\\Recovery\\WindowsRE\\Winre.wim"),
        0x12000002: text("\\windows\\system32\\winload.exe"), 0x12000004: text("Windows Recovery Environment"),
        0x21000001: ramdisk(BOOT_OFFSET, "\\Recovery\\WindowsRE\\Winre.wim"), 0x22000002: text("\\windows"),
        0x26000022: boolean(1)})
    obj(RAMDISK, 0x30000000, {
        0x12000004: text("Windows Recovery"), 0x31000003: partition(BOOT_OFFSET),
        0x32000004: text("\\Recovery\\WindowsRE\\boot.sdi")})
    obj(MEMTEST, 0x10200005, {
        0x11000001: partition(BOOT_OFFSET), 0x12000002: text("\\boot\\memtest.exe"),
        0x12000004: text("Windows Memory Diagnostic"), 0x12000005: text("de-DE"), 0x14000006: texts([GLOBALS])})
    obj(GLOBALS, 0x20100000, {0x14000006: texts([])})
    obj(LOADER_GLOBALS, 0x20200003, {0x14000006: texts([GLOBALS])})
    edit.save()


if __name__ == "__main__":
    folder = sys.argv[1]
    system(f"{folder}/SYSTEM")
    software(f"{folder}/SOFTWARE")
    bcd_store(f"{folder}/BCD")
    recovery(f"{folder}/ReAgent.xml")
