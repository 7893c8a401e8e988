"""The bare Python loop that the engine is measured against: reads one descriptor, writes the other."""

import os
import sys

source, target = int(sys.argv[1]), int(sys.argv[2])
while data := os.read(source, 24 * 64):
    os.write(target, data)
