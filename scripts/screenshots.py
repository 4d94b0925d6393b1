"""Makes every picture of docs/screenshots from the demo data in one go.

Needs a headless Chromium on the path (Debian's package ``chromium``). Run: .venv/bin/python scripts/screenshots.py [NAME]
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from rich.console import Console
from rich.text import Text

ROOT = Path(__file__).parents[1]
SHOTS = ROOT / "docs" / "screenshots"
#: Picture -> what is typed, in a folder that holds the demo.
VIEWS = {
    "project": "project river-watch/river.toml --width 150",
    "compare": "compare before.json after.json --width 132",
}
#: Chart -> the command that draws it.
CHARTS = {
    "check": "check river-watch/river.toml",
    "choose": "choose river-watch/river.toml",
    "crossover": "crossover river-watch/river.toml --scale 0.3..3 --plan heron.per-run --plan heron.shared --plan osier.fixed",
    "dashboard": "project river-watch/river.toml --plan heron.per-run --chart dashboard --from 2027-03-14T04:30 --until 2027-03-14T10:00",
    "drain": "drain river-watch/river.toml --queue texts --backlog 30000 --limit 8,40 --plan heron.shared --plan osier.elastic",
    "firings": "firings river-watch/river.toml",
    "fit": "fit river-watch/logs/look.csv --model river-watch/river.toml --plan heron.shared",
    "follow": "follow river-watch/river.toml --plan heron.per-run --slowest --function send-text",
    "forecast": "forecast river-watch/river.toml --months 12 --plan heron.per-run --plan osier.fixed --plan heron.shared",
    "landing": "project river-watch/river.toml --so-far so-far.csv --until 2027-03-16 --chart landing",
    "load": "load river-watch/river.toml --function map --clients 1,5,10,20,50,100,200 --limit 5,20,80 --plan heron.shared",
    "map": "project river-watch/river.toml --plan heron.per-run --chart map",
    "measure": "measure --serve --batch 1,10,50 --slots 1,2,4 -- python river-watch/programs/answer.py",
    "reconcile": "reconcile river-watch/river.toml river-watch/logs/bill.csv --plan heron.shared",
    "sweep": "sweep river-watch/river.toml --vary functions.flood-model.memory=3584_MB,4_GB,5_GB,6_GB,8_GB,10_GB --plan heron.per-run",
}
PAGE = """<!doctype html><meta charset="utf-8"><body style="margin:0;background:#fdfdfb">
<pre style="margin:14px 18px;font:13px/1.32 'DejaVu Sans Mono',monospace;color:#1a1a1a">{text}</pre>"""


def view(words: str, folder: Path) -> str:
    """What the program prints, as HTML with its colours."""
    arguments = words.split()
    environment = {**os.environ, "FORCE_COLOR": "1", "COLUMNS": "150"}
    done = subprocess.run(
        [sys.executable, "-m", "echotally", *arguments],
        cwd=folder,
        capture_output=True,
        text=True,
        env=environment,
        check=False,
    )
    shown = Text()
    shown.append(
        "$ echotally " + " ".join(a for a in arguments if a not in ("--width", "132", "150")) + "\n\n", style="bold"
    )
    shown.append_text(Text.from_ansi(done.stdout + done.stderr))
    paper = Console(record=True, width=150, file=open(os.devnull, "w"))  # noqa: SIM115
    paper.print(shown)
    return paper.export_html(inline_styles=True, code_format="{code}")


def picture(html: str, path: Path, folder: Path) -> None:
    """Render what the program printed, 1280x800."""
    page = folder / "page.html"
    page.write_text(PAGE.format(text=html), encoding="utf-8")
    shoot(page, path, folder)


def shoot(page: Path, path: Path, folder: Path) -> None:
    """A picture of a page, 1280x800, by headless Chromium."""
    browser = shutil.which("chromium") or shutil.which("chromium-browser")
    if browser is None:
        sys.exit("needs Chromium (Debian package: chromium)")
    subprocess.run(
        [
            browser,
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            f"--user-data-dir={folder / 'profile'}",
            f"--screenshot={path}",
            "--window-size=1280,800",
            page.as_uri(),
        ],
        check=True,
        capture_output=True,
        timeout=120,
    )


def run(arguments: list[str], folder: Path) -> None:
    """The program, which must succeed."""
    subprocess.run([sys.executable, "-m", "echotally", *arguments], cwd=folder, check=True, capture_output=True)


def main(names: list[str]) -> None:
    """Refresh all pictures, or those named."""
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        subprocess.run([sys.executable, "-m", "echotally", "demo"], cwd=folder, check=True, capture_output=True)
        for file, change in (("before.json", []), ("after.json", ["--set", "demand.cameras.rate=320 /h"])):
            run(["project", "river-watch/river.toml", *change, "--format", "json", "-o", file], folder)
        so_far = "--plan heron.shared --format focus --by day --until 2027-03-16 -o so-far.csv"
        run(["project", "river-watch/river.toml", *so_far.split()], folder)
        if not names or "report" in names:
            run(["report", "river-watch/river.toml", "-o", "report.html"], folder)
            shoot(folder / "report.html", SHOTS / "report.png", folder)
            print(SHOTS / "report.png")
        if not names or "survey" in names:
            logs = "river-watch/county"
            run(
                [
                    "survey",
                    f"{logs}/spans.otlp.json.gz",
                    "--metrics",
                    f"{logs}/metrics.otlp.json.gz",
                    "--bill",
                    f"{logs}/bill.csv",
                    "-o",
                    "surveyed",
                ],
                folder,
            )
            shoot(folder / "surveyed/survey.html", SHOTS / "survey.png", folder)
            print(SHOTS / "survey.png")
        for shot, words in VIEWS.items():
            if not names or shot in names:
                picture(view(words, folder), SHOTS / f"{shot}.png", folder)
                print(SHOTS / f"{shot}.png")
        for shot, words in CHARTS.items():
            if not names or shot in names:
                arguments = [word.replace("_MB", " MB").replace("_GB", " GB") for word in words.split()]
                # Behind the command itself: what follows a bare -- is another program's.
                run([arguments[0], "--plot", str(SHOTS / f"{shot}.png"), *arguments[1:]], folder)
                print(SHOTS / f"{shot}.png")


if __name__ == "__main__":
    main(sys.argv[1:])
