"""Docs that are made from the program's definitions are current; what the program has, the docs have."""

from __future__ import annotations

import json
import re
import tomllib
from pathlib import Path

import jsonschema
import pytest

from echotally.cli.main import COMMANDS
from echotally.docs_made.help_page import commands_page
from echotally.docs_made.key_rows import Rows
from echotally.docs_made.reference import PAGES
from echotally.findings import RULES, check_model
from echotally.model.json_schema import model_schema
from echotally.model.key_texts import MODEL_KEYS
from echotally.model.units import size_bytes, size_text
from echotally.projection.explain import explain
from echotally.projection.project import project
from echotally.rates.json_schema import rates_schema
from echotally.rates.key_texts import CARD_KEYS
from echotally.rates.meters import METERS

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"
MADE = {**PAGES, "commands.md": commands_page}


@pytest.mark.parametrize("name", MADE)
def test_a_reference_page_is_what_the_program_would_write_now(name: str) -> None:
    assert (DOCS / name).read_text() == MADE[name](), "run scripts/reference.py"


@pytest.mark.parametrize(
    ("page", "names"),
    [
        ("commands.md", [f"## {name}" for name in COMMANDS]),
        ("commands.md", [f"| {code} |" for code in (0, 1, 2, 3, 130)]),
        ("keys.md", [f"`{key}`" for keys in (*MODEL_KEYS.values(), *CARD_KEYS.values()) for key in keys]),
        ("keys.md", [f"`{meter}`" for meter in METERS]),
        ("findings.md", [f"## {code}" for code in RULES]),
    ],
    ids=["commands", "exit codes", "keys", "meters", "findings"],
)
def test_the_reference_holds_everything_there_is(page: str, names: list[str]) -> None:
    text = (DOCS / page).read_text()
    assert [name for name in names if name not in text] == []


FILES = [("Model", model_schema, MODEL_KEYS), ("RateCard", rates_schema, CARD_KEYS)]


@pytest.mark.parametrize(("root", "schema_of", "described"), FILES, ids=["model", "rates"])
def test_every_key_has_its_full_row_and_an_example_that_the_schema_takes(root, schema_of, described) -> None:
    schema = schema_of()
    rows = Rows(schema, described, root)
    for table, keys in described.items():
        found = rows.of(table)
        assert [row.key for row in found] == list(keys)
        properties = rows.with_keys(table).get("properties", {})
        for row in found:
            where = f"{table}.{row.key}"
            assert row.kind not in ("", "value") and row.meaning and row.required, where
            # What need not be there says what holds without it.
            assert row.required != "no" or row.default, where
            example = tomllib.loads(row.example.strip("`"))[row.key]
            plain = json.loads(json.dumps(example, default=str))
            # The schema as a whole is checked elsewhere; here it would be checked anew for every key.
            part = {**properties[row.key], "$defs": schema.get("$defs", {})}
            jsonschema.Draft202012Validator(part).validate(plain)


@pytest.mark.parametrize("key", ["memory", "timeout", "tags", "run", "cpu_share"])
def test_what_a_function_needs_may_stand_in_the_defaults(key: str) -> None:
    (row,) = [row for row in Rows(model_schema(), MODEL_KEYS, "Model").of("Function") if row.key == key]
    assert (row.required == "here or in `[defaults]`") == (key in ("memory", "run"))


@pytest.mark.parametrize(
    ("size", "text"), [(0, "0 B"), (500, "500 B"), (10**7, "10 MB"), (1_200, "1200 B"), (3 * 10**9, "3 GB")]
)
def test_sizes_are_written_as_people_write_them(size: int, text: str) -> None:
    assert size_text(size) == text and size_bytes(text) == size


def test_every_command_has_a_question_or_a_place_in_the_tutorial() -> None:
    text = (
        "".join((DOCS / page).read_text() for page in ("questions.md", "tutorial.md"))
        + (ROOT / "README.md").read_text()
    )
    assert [name for name in COMMANDS if f"echotally {name}" not in text] == []


@pytest.mark.parametrize("page", [ROOT / "README.md", *sorted(DOCS.glob("*.md"))], ids=lambda path: path.name)
def test_links_and_pictures_of_a_page_are_there(page: Path) -> None:
    targets = re.findall(r"\]\(([^)#:]+)\)", page.read_text())
    assert [target for target in targets if not (page.parent / target).exists()] == []


def test_no_picture_is_left_over_and_there_are_fewer_than_twenty() -> None:
    shown = {
        Path(t).name
        for page in (ROOT / "README.md", *DOCS.glob("*.md"))
        for t in re.findall(r"\]\(([^)]*screenshots/[^)]+\.png)\)", page.read_text())
    }
    there = {path.name for path in (DOCS / "screenshots").iterdir()}
    assert there == shown and len(there) < 20


RULE_NUMBERS = set(re.findall(r"^\*\*(\d+\.\d+)\*\*", (DOCS / "rules.md").read_text(), re.M))
_CITED = re.compile(r"\brules? \[?(\d+\.\d+)(?:(?:,| and| to) (\d+\.\d+))*")
SOURCES = [*(ROOT / "src").rglob("*.py"), *(ROOT / "tests").rglob("*.py"), *DOCS.rglob("*.md"), ROOT / "README.md"]


def test_every_rule_that_is_cited_is_there() -> None:
    texts = {path: path.read_text(encoding="utf-8") for path in SOURCES}
    cited = [
        (path.name, number)
        for path, text in texts.items()
        for found in _CITED.finditer(text)
        for number in re.findall(r"\d+\.\d+", found[0])
    ]
    assert len(cited) > 60
    assert [place for place in cited if place[1] not in RULE_NUMBERS] == []


def test_every_finding_and_every_step_of_a_walk_cites_a_rule(river_projection) -> None:
    steps = explain(river_projection.model, river_projection.best, "intake")
    cited = {rule.cites for rule in RULES.values()} | {step.rule for step in steps}
    assert cited <= RULE_NUMBERS


def test_prose_is_at_most_120_columns_wide() -> None:
    wide = []
    for page in [ROOT / "README.md", ROOT / "CHANGELOG.md", *DOCS.rglob("*.md"), *(ROOT / "src").rglob("*.md")]:
        text = re.sub(r"^```.*?^```", "", page.read_text(encoding="utf-8"), flags=re.S | re.M)
        # Tables are one row a line, links and help of options cannot be broken.
        wide += [
            (page.name, line)
            for line in text.splitlines()
            if len(line) > 120 and line[:1] not in "|!" and " " in line[:110]
        ]
    assert [name for name, _ in wide if name != "commands.md"] == []


EXAMPLES = re.findall(r"```toml\n(.*?)```", (ROOT / "docs/questions.md").read_text(encoding="utf-8"), re.S)


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_the_small_estates_of_the_questions_are_played_and_checked(number, river, tmp_path):
    text = EXAMPLES[number]
    assert len(text.splitlines()) <= 10
    head = 'schema = "echotally-model/1"\n[estate]\nname = "example"\nmonth = "2027-03"\ntimezone = "Europe/Dublin"\n'
    head += 'rate_cards = ["rates/heron.toml"]\n'
    keys, _, tables = text.partition("[[")
    (tmp_path / "rates").mkdir()
    (tmp_path / "rates/heron.toml").write_bytes((river.parent / "rates/heron.toml").read_bytes())
    # Keys of the top stand before the first table.
    schema, estate = head.split("\n", 1)
    (tmp_path / "example.toml").write_text(f"{schema}\n{keys}{estate}" + (f"[[{tables}" if tables else ""))
    played = project(tmp_path / "example.toml").played
    assert played and all(plan.totals.attempts["total"] for plan in played)
    assert not [f for f in check_model(tmp_path / "example.toml").findings if f.rule.level == "error"]


def test_every_meter_unit_and_exit_code_has_its_row() -> None:
    from echotally.cli import failing, interrupting
    from echotally.model import units
    from echotally.rates.meters import METERS

    keys, written, commands = ((DOCS / f"{name}.md").read_text() for name in ("keys", "units", "commands"))
    for meter in METERS.values():
        (row,) = re.findall(rf"^\| `{meter.name}` \|(.*)\|$", keys, re.M)
        assert all(cell.strip() for cell in row.split("|")) and row.count("|") == 2, meter.name
    for forms in (units._DURATION_NS, units._SIZE_BYTES, units._MEMORY_MB, units._RATE_S):
        assert any(f"| {', '.join(forms)} |" in line for line in written.splitlines()), forms
    codes = {failing.DONE, failing.OUR_FAULT, failing.BAD_INPUT, failing.MISSED, interrupting.INTERRUPTED}
    assert {int(code) for code in re.findall(r"^\| (\d+) \| \S", commands, re.M)} == codes


def test_every_option_has_its_row_on_the_page_of_commands_and_in_the_man_page() -> None:
    import click

    from echotally.cli.main import cli

    page, man = (DOCS / "commands.md").read_text(), (DOCS / "echotally.1").read_text().replace("\\-", "-")
    context = click.Context(cli)
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command is not None
        part = page[page.index(f"\n## {name}\n") :]
        for param in command.params:
            if isinstance(param, click.Option) and not param.hidden:
                assert max(param.opts, key=len) in part.split("\n## ")[1] and max(param.opts, key=len) in man, (
                    name,
                    param.opts,
                )
