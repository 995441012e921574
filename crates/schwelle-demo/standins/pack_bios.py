#!/usr/bin/python3
"""Makes the stand-in \\bootmgr from the linked program: as long as a real one, with its length and the sum of its bytes.

Usage: pack_bios.py PROGRAM OUT
"""
import random
import struct
import sys

LENGTH = 398156
STACK = range(0x8000, 0x10000)

program = bytearray(open(sys.argv[1], "rb").read())
assert len(program) < STACK.start, len(program)
struct.pack_into("<I", program, 4, LENGTH)
# Text that does not repeat, so that a sector at the wrong place is noticed.
dice, words = random.Random("bootmgr"), "tide lamp rope gull harbour fog bell chart anchor breeze buoy keel".split()
rest = " ".join(dice.choice(words) for _ in range(LENGTH // 4)).encode()[:LENGTH - STACK.stop - 4]
whole = program.ljust(STACK.start, b"\0") + bytes(len(STACK)) + rest
total = 0
for at, byte in enumerate(whole):
    if at not in STACK:
        total = (total * 31 + byte) & 0xFFFFFFFF
open(sys.argv[2], "wb").write(whole + struct.pack("<I", total))
