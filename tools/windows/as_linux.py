#!/usr/bin/python3
"""Runs schwelle.exe as if it were the program for Linux, so that the tests written for that can drive it: paths go in as
Windows writes them, and come back as Linux does. Where everything lies is in as_linux.json beside this file's copy."""

import json
import os
import re
import subprocess
import sys

HERE = os.path.dirname(os.path.abspath(__file__))
with open(f"{HERE}/as_linux.json") as file:
    PLACES = json.load(file)
DRIVE = PLACES["drive"]


def inward(argument):
    if DRIVE not in argument:
        return argument
    before, path = argument.split(DRIVE, 1)
    return before + "C:" + path.replace("/", "\\")


def outward(text):
    def path(match):
        return DRIVE + re.sub(r"\\+", "/", match[0][2:])

    return re.sub(r"C:(?:\\{1,2}[^\\\s\"'<>|:*?,;)]+)+", path, text)


# The tests clear the environment.
env = {**os.environ, **PLACES["env"]}
done = subprocess.run([PLACES["wine"], PLACES["program"], *map(inward, sys.argv[1:])], env=env, capture_output=True)
sys.stdout.write(outward(done.stdout.decode()))
sys.stderr.write(outward(done.stderr.decode()))
sys.exit(done.returncode)
