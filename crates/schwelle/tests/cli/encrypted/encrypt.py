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

import numpy
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESCCM

USUAL = uuid.UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001")
METHODS = {"diffuser-128": 0x8000, "diffuser-256": 0x8001, "cbc-128": 0x8002, "cbc-256": 0x8003, "xts-128": 0x8004, "xts-256": 0x8005}
MIB = 1 << 20
HEAD = 8192
COPY = 65536


def ecb(key, blocks):
    """Encrypts an array of 16-byte blocks in ECB mode."""
    done = Cipher(algorithms.AES(key), modes.ECB()).encryptor()
    return numpy.frombuffer(done.update(blocks.tobytes()) + done.finalize(), "u1").reshape(blocks.shape)


def in_blocks(numbers):
    """Encodes each number as a 16-byte little-endian block."""
    blocks = numpy.zeros((len(numbers), 2), "<u8")
    blocks[:, 0] = numbers
    return blocks.view("u1")


def by_xts(key, sectors, numbers):
    half = len(key) // 2
    tweak = ecb(key[half:], in_blocks(numbers)).view("<u8")
    tweaks = numpy.empty((len(sectors), sectors.shape[1] // 16, 2), "<u8")
    for block in range(tweaks.shape[1]):
        tweaks[:, block] = tweak
        low, high = tweak[:, 0], tweak[:, 1]
        tweak = numpy.stack([low << 1 ^ (high >> 63) * 0x87, high << 1 | low >> 63], axis=1)
    tweaks = tweaks.view("u1").reshape(sectors.shape)
    return ecb(key[:half], sectors ^ tweaks) ^ tweaks


def by_cbc(key, sectors, places):
    before = ecb(key, places)
    done = numpy.empty_like(sectors)
    for at in range(0, sectors.shape[1], 16):
        before = done[:, at:at + 16] = ecb(key, sectors[:, at:at + 16] ^ before)
    return done


def diffused(sectors):
    """Applies both halves of the diffuser, in the direction of encryption."""
    words = numpy.ascontiguousarray(sectors.view("<u4").T)
    count = len(words)
    for rounds, turns, near, far in ((5, (9, 0, 13, 0), -2, -5), (3, (0, 10, 0, 25), 2, 5)):
        for _ in range(rounds):
            for i in reversed(range(count)):
                other, turn = words[(i + far) % count], turns[i % 4]
                if turn:
                    other = other << turn | other >> (32 - turn)
                words[i] -= words[(i + near) % count] ^ other
    return numpy.ascontiguousarray(words.T).view("u1")


def encrypted(method, key, plain, first, sector):
    """Encrypts sectors; `first` is their byte offset in the volume."""
    sectors = numpy.frombuffer(plain, "u1").reshape(-1, sector)
    at = first + numpy.arange(len(sectors), dtype="<u8") * sector
    if method.startswith("xts"):
        return by_xts(key, sectors, at // sector).tobytes()
    size = int(method[-3:]) // 8
    places = in_blocks(at)
    if method.startswith("diffuser"):
        tweak = key[32:32 + size]
        others = places.copy()
        others[:, 15] = 0x80
        mask = numpy.concatenate([ecb(tweak, places), ecb(tweak, others)], axis=1)
        sectors = diffused(sectors ^ numpy.tile(mask, (1, sector // 32)))
    return by_cbc(key[:size], sectors, places).tobytes()


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
        for at in range(0, length, 32 * MIB):
            file.seek(first + at)
            file.write(encrypted(method, key, plain[at:at + 32 * MIB], at, sector))
        file.seek(first + head_at)
        file.write(encrypted(method, key, plain[:HEAD], head_at, sector))
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
