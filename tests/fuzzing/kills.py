"""Every command that writes, killed at random moments: what was there is there, or what should be there is, whole."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from random import Random

#: Command line and the files it writes, all relative to a folder that holds the demo's files.
COMMANDS: dict[str, tuple[str, tuple[str, ...]]] = {
    "project": ("project river.toml --plan heron.shared --format json -o out.json --series s.csv --plot p.png", ("out.json", "s.csv", "p.png")),
    "log": ("project river.toml --plan heron.shared --log log.parquet", ("log.parquet",)),
    "workbook": ("project river.toml --plan heron.shared -o out.xlsx", ("out.xlsx",)),
    "report": ("report river.toml -o out.html", ("out.html",)),
    "check": ("check river.toml --format sarif -o out.sarif", ("out.sarif",)),
    "demand": ("demand river.toml --format csv -o out.csv --plot p.svg", ("out.csv", "p.svg")),
    "firings": ("firings river.toml --format csv -o out.csv --ics out.ics", ("out.csv", "out.ics")),
    "sweep": ("sweep river.toml --vary functions.map.memory=512MB,1024MB --plan heron.shared --workers 1 -o out.csv", ("out.csv",)),
    "fit": ("fit logs/look.csv --model river.toml --plan heron.shared --format json -o out.json --plot p.png", ("out.json", "p.png")),
    "fit-write": ("fit logs/look.csv --model river.toml --plan heron.shared --write", ("river.toml",)),
    "reconcile": ("reconcile river.toml logs/bill.csv --plan heron.shared --format csv -o out.csv", ("out.csv",)),
    "load": ("load river.toml --function map --clients 1 --calls 50 --plan heron.shared --format json -o out.json", ("out.json",)),
    "drain": ("drain river.toml --queue sms --backlog 200 --plan heron.shared --format json -o out.json", ("out.json",)),
    "forecast": ("forecast river.toml --months 2 --draws 20 --plan heron.shared --format json -o out.json", ("out.json",)),
    "schema": ("schema model -o out.json", ("out.json",)),
    "rates": ("rates show rates/heron.toml --format json -o out.json", ("out.json",)),
    "start": ("start new", ("new/model.toml", "new/rates/rates.toml")),
}  # fmt: skip


def killed(name: str, folder: Path, rng: Random, longest_s: float) -> list[str]:
    """Run a command in ``folder``, which holds the demo, and kill it; what is wrong with its files afterwards, in words."""
    line, files = COMMANDS[name]
    before = {file: (folder / file).read_bytes() if (folder / file).exists() else None for file in files}
    command = [sys.executable, "-m", "echotally", *line.split()]
    environment = os.environ | {"TMPDIR": str(folder)}
    with subprocess.Popen(
        command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment
    ) as process:
        # A process that is over before its moment comes leaves whole files, which is looked at too.
        time.sleep(rng.random() * longest_s)
        if process.poll() is None:
            process.send_signal(signal.SIGKILL)
    wrong = [file for file in files if not _old_or_whole(folder / file, before[file])]
    return [f"{file} of '{name}' is neither old nor whole" for file in wrong]


def _old_or_whole(path: Path, before: bytes | None) -> bool:
    if not path.exists():
        return before is None
    found = path.read_bytes()
    return found == before or _whole(path.suffix, found)


def _whole(ending: str, content: bytes) -> bool:
    """Whether a file has the end that its kind has."""
    ends = {
        ".json": b"}\n", ".sarif": b"}\n", ".html": b"</html>\n", ".png": b"IEND\xaeB`\x82", ".svg": b"</svg>\n", ".csv": b"\n", ".toml": b"\n",
        ".parquet": b"PAR1", ".ics": b"END:VCALENDAR\r\n",
    }  # fmt: skip
    return b"PK\x05\x06" in content[-64:] if ending == ".xlsx" else content.endswith(ends[ending])
