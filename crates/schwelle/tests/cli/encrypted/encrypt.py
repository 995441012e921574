"""Encrypts a volume of a disk image in place, as Windows does, for the tests: the cryptography is that of a library of its own.

    encrypt.py IMAGE FIRST_BYTE BYTES SECTOR METHOD PROTECTOR...

METHOD: xts-128, xts-256, cbc-128, cbc-256, diffuser-128, diffuser-256. PROTECTOR: clear, file:PATH (a key file to be made), or a
recovery password. Prints JSON: the identifiers of the protectors in their order, and all keys, in hex.
"""

import hashlib
import json
import os
import struct
import sys
import uuid
import zlib

from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESCCM

USUAL = uuid.UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001")
METHODS = {"diffuser-128": 0x8000, "diffuser-256": 0x8001, "cbc-128": 0x8002, "cbc-256": 0x8003, "xts-128": 0x8004, "xts-256": 0x8005}
MIB = 1 << 20
HEAD = 8192
COPY = 65536


def ecb(key, block):
    done = Cipher(algorithms.AES(key), modes.ECB()).encryptor()
    return done.update(block) + done.finalize()


def diffused(sector):
    """Both halves of the diffuser, in the direction of encryption."""
    words = list(struct.unpack(f"<{len(sector) // 4}I", sector))
    count = len(words)
    for rounds, turns, near, far in ((5, (9, 0, 13, 0), -2, -5), (3, (0, 10, 0, 25), 2, 5)):
        for _ in range(rounds):
            for i in reversed(range(count)):
                other, turn = words[(i + far) % count], turns[i % 4]
                other = (other << turn | other >> (32 - turn)) & 0xFFFFFFFF
                words[i] = (words[i] - (words[(i + near) % count] ^ other)) & 0xFFFFFFFF
    return struct.pack(f"<{count}I", *words)


class Sectors:
    def __init__(self, method, key):
        self.method, self.key = method, key

    def encrypt(self, sector, at):
        """One sector, `at` bytes from the start of the volume."""
        size = int(self.method[-3:]) // 8
        if self.method.startswith("xts"):
            tweak = (at // len(sector)).to_bytes(16, "little")
            done = Cipher(algorithms.AES(self.key), modes.XTS(tweak)).encryptor()
            return done.update(sector) + done.finalize()
        place = at.to_bytes(16, "little")
        if self.method.startswith("diffuser"):
            tweak = self.key[32:32 + size]
            mask = ecb(tweak, place) + ecb(tweak, place[:15] + b"\x80")
            mask *= len(sector) // 32
            sector = diffused(bytes(a ^ b for a, b in zip(sector, mask)))
        done = Cipher(algorithms.AES(self.key[:size]), modes.CBC(ecb(self.key[:size], place))).encryptor()
        return done.update(sector) + done.finalize()


def entry(kind, value, data):
    return struct.pack("<4H", 8 + len(data), kind, value, 1) + data


def wrapped(by, kind, key, method):
    """A key, wrapped by another one."""
    plain = entry(kind, 1, struct.pack("<I", method) + key)
    nonce = os.urandom(12)
    done = AESCCM(by, tag_length=16).encrypt(nonce, plain, None)
    return entry(kind, 5, nonce + done[-16:] + done[:-16])


def stretched(password, salt):
    words = [int(group) // 11 for group in password.split("-")]
    first = hashlib.sha256(struct.pack("<8H", *words)).digest()
    last = bytes(32)
    for count in range(1 << 20):
        last = hashlib.sha256(last + first + salt + struct.pack("<Q", count)).digest()
    return last


def protector(how, master, keys):
    """An entry for one way to the master key, and its identifier."""
    name = uuid.uuid4()
    if how == "clear":
        kind, by = 0x0000, os.urandom(32)
        parts = entry(0, 1, struct.pack("<I", 0x2003) + by)
    elif how.startswith("file:"):
        kind, by = 0x0200, os.urandom(32)
        parts = b""
        inner = name.bytes_le + bytes(8) + entry(0, 1, struct.pack("<I", 0x2002) + by)
        content = entry(6, 9, inner)
        header = struct.pack("<4I", 48 + len(content), 1, 48, 48 + len(content)) + uuid.uuid4().bytes_le + bytes(16)
        with open(how[5:], "wb") as file:
            file.write(header + content)
    else:
        kind, salt = 0x0800, os.urandom(16)
        by = stretched(how, salt)
        parts = entry(0, 3, struct.pack("<I", 0x1000) + salt)
    if how != "clear":
        keys.append(by)
    head = name.bytes_le + bytes(8) + struct.pack("<2H", 0, kind)
    return entry(2, 8, head + parts + wrapped(by, 0, master, 0x2002)), name


def main():
    image, first, length, sector, method, *protectors = sys.argv[1:]
    first, length, sector = int(first), int(length), int(sector)
    with open(image, "r+b") as file:
        file.seek(first)
        plain = file.read(length)
        size = int(method[-3:]) // 8
        key = os.urandom(64 if method == "xts-256" or method.startswith("diffuser") else 32 if method != "cbc-128" else 16)
        master = os.urandom(32)
        keys = [master, key[:size]]
        # In free clusters near the end.
        places = [length - count * 4 * MIB for count in (2, 3, 4)]
        head_at = length - 5 * MIB
        for at, room in [*((at, COPY) for at in places), (head_at, HEAD)]:
            if any(plain[at:at + room]):
                raise SystemExit(f"something lies at {at}")
        entries, names = b"", []
        for how in protectors:
            made, name = protector(how, master, keys)
            entries += made
            names.append(str(name))
        entries += wrapped(master, 3, key, METHODS[method])
        entries += entry(7, 2, "MADE-UP C: 2026".encode("utf-16-le") + b"\0\0")
        entries += entry(15, 15, struct.pack("<2Q", head_at, HEAD))
        data = struct.pack("<4I", 48 + len(entries), 1, 48, 48 + len(entries)) + uuid.uuid4().bytes_le
        data += struct.pack("<IHHQ", 1, METHODS[method], METHODS[method], 0) + entries
        units = (64 + len(data) + 15) // 16
        block = b"-FVE-FS-" + struct.pack("<4HQII4Q", units, 2, 4, 4, length, 0, HEAD // sector, *places, head_at)
        block = (block + data).ljust(units * 16, b"\0")
        block += struct.pack("<2HI", 8, 2, zlib.crc32(block)) + bytes(512)
        sectors = Sectors(method, key)
        for at in range(0, length, sector):
            file.seek(first + at)
            file.write(sectors.encrypt(plain[at:at + sector], at))
        for at in range(0, HEAD, sector):
            file.seek(first + head_at + at)
            file.write(sectors.encrypt(plain[at:at + sector], head_at + at))
        for at in places:
            file.seek(first + at)
            file.write(block.ljust(COPY, b"\0"))
        header = bytearray(plain[:sector])
        header[:11] = b"\xEB\x58\x90-FVE-FS-"
        header[160:200] = USUAL.bytes_le + struct.pack("<3Q", *places)
        file.seek(first)
        file.write(header)
    print(json.dumps({"ids": names, "keys": [key.hex() for key in keys]}))


main()
