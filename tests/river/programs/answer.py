"""Answers gauge readings, one JSON value a line: a made-up program to try `echotally measure` on.

    echotally measure --serve --batch 1,10,50 -- python river-watch/programs/answer.py

A line is a reading or a list of readings; the answer says how many of them would raise an alert. Loading the rating table takes a
while, checking a reading is a little work, asking the gauge's station is a little waiting.
"""

import json
import sys
import time

LOADING_S, ASKING_S, ROUNDS = 0.25, 0.004, 6_000


def check(reading: object, number: int) -> bool:
    """Whether a reading lies above its gauge's level: work that a processor has to do."""
    level = 0.0
    for n in range(ROUNDS):
        level = (level * 0.9 + n % 7) % 5.0
    return (number + int(level)) % 50 == 0


def main() -> None:
    """Load, then answer line by line until there are no more."""
    time.sleep(LOADING_S)
    seen = 0
    for line in sys.stdin:
        readings = json.loads(line)
        readings = readings if isinstance(readings, list) else [readings]
        time.sleep(ASKING_S)
        alerts = 0
        for reading in readings:
            seen += 1
            alerts += check(reading, seen)
        sys.stderr.write(f"{len(readings)} readings, {alerts} alerts\n")
        sys.stdout.write(json.dumps({"readings": len(readings), "alerts": alerts}) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
