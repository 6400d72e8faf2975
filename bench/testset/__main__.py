import sys
from pathlib import Path

from bench.testset import write_testset

for written in write_testset(Path(sys.argv[1])):
    print(written)
