"""``python -m brae.demo.standin FOLDER [SCENE.png]``: play, print the trace; exit 1 where the game refuses."""

import sys
from pathlib import Path

from brae.demo.standin import play

report = play(Path(sys.argv[1]))
print("\n".join(report.trace))
if len(sys.argv) > 2:
    Path(sys.argv[2]).write_bytes(report.scene)
sys.exit(1 if report.refused else 0)
