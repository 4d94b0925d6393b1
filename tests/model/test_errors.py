"""Bad input: one clear line each, with file, line, address, value and what is allowed."""

from __future__ import annotations

import pytest

from echotally.errors import BadInput
from echotally.model.loading import load_model
from tests.conftest import run_program

GOOD = """
[functions.f]
memory = "256 MB"
run = "100 ms"
[queues.q]
[demand.d]
into = "queues.q"
rate = "1 /s"
[[triggers]]
from = "queues.q"
to = "f"
"""

SIX = """
[functions.f]
memory = "256 XB"
run = "100 ms"
timeout = 30
memmory = "1 GB"
[queues.q]
visibility = "soon"
[demand.d]
into = "queues.q"
rate = "1 /s"
spread = "lumpy"
[[triggers]]
from = "queues.q"
to = "f"
batch = 0
"""


def test_six_mistakes_make_six_errors_with_their_lines(write, tmp_path):
    path = write(SIX)
    done = run_program("check", path.name, cwd=tmp_path)
    assert done.returncode == 2
    lines = done.stderr.splitlines()
    text = path.read_text().splitlines()
    for address, key in [
        ("functions.f.memory", 'memory = "256 XB"'),
        ("functions.f.timeout", "timeout = 30"),
        ("functions.f.memmory", 'memmory = "1 GB"'),
        ("queues.q.visibility", 'visibility = "soon"'),
        ("demand.d.spread", 'spread = "lumpy"'),
        ("triggers.0.batch", "batch = 0"),
    ]:
        assert any(line.startswith(f"error: model.toml:{text.index(key) + 1}: {address}: ") for line in lines), address
    assert lines[-1] == "6 errors"
    assert "Traceback" not in done.stderr


MIXED = """
[functions.f]
memory = "256 XB"
run = "100 ms"
bogus = 1
[schedules.s]
cron = "0 25 * * *"
[queues.q]
[demand.d]
into = "queues.qq"
rate = "1 /s"
[[triggers]]
from = "queues.q"
to = "g"
"""


def test_mistakes_of_every_kind_are_reported_together(write, tmp_path):
    # Shapes, names that lead nowhere, a schedule, a rate card: all in one go, in the order of the file.
    path = write(MIXED, prices="calls = { unit = 0.2 }")
    done = run_program("check", path.name, cwd=tmp_path)
    assert done.returncode == 2
    for part in ("functions.f.memory", "functions.f.bogus", "demand.d.into: there is no such source; did you mean queues.q",
                 "schedules.s.cron", "triggers.0.to: there is no such function", "floats cannot hold cents"):  # fmt: skip
        assert part in done.stderr, part
    assert done.stderr.splitlines()[-1] == "6 errors"


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (None, "cannot be read: No such file"),
        (b"", "is empty"),
        (b"\x00\x01\xff\xfe" * 50, "is not a text file"),
        (b"a = \x00", "is a binary file"),
        (b"not toml at all " * 3_200_000, "larger than 32 MB"),
        (b"]" * 30_000_000, "is not TOML"),
        (b"a = " + b"[" * 100_000, "is not TOML"),
    ],
    ids=["missing", "empty", "binary", "nul", "junk-50MB", "junk-30MB", "deep"],
)
def test_a_file_that_is_no_model_gets_one_clear_line(tmp_path, content, says):
    if content is not None:
        (tmp_path / "m.toml").write_bytes(content)
    done = run_program("project", "m.toml", cwd=tmp_path)
    assert done.returncode == 2
    assert says in done.stderr
    assert len(done.stderr.splitlines()) == 1


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('rate = "1 /s"', "rate = 1", "demand.d.rate: needs a unit (found 1). Allowed: a number and one of /s"),
        ('into = "queues.q"', 'into = "queues.qq"', "there is no such source; did you mean queues.q?"),
        ('to = "f"', 'to = "g"', "triggers.0.to: there is no such function"),
        ('to = "f"', 'to = "f"\nshare = 0.5', "triggers.0.share: has no effect on a trigger from queues"),
        ('rate = "1 /s"', 'trace = "no.csv"', "demand.d.trace: cannot be read"),
        ('rate = "1 /s"', 'rate = "1 /s"\nmonthly = 5', "needs exactly one kind of demand"),
        ("[queues.q]", '[queues.q]\ndead_letter = "queues.q"', "queues.q -> queues.q"),
        ('run = "100 ms"', 'run = { median = "1 s" }', "is not a known spread"),
        ('run = "100 ms"', 'run = { samples = "gone.csv" }', "cannot be read"),
        ("[queues.q]", '[schedules.s]\ncron = "61 * * * *"\n[queues.q]', "bad minute field"),
        ("[queues.q]", '[schedules.s]\ncron = "0 0 30 2 *"\n[queues.q]', "schedules.s.cron"),
        ('timezone = "UTC"', 'timezone = "Europe/Dubln"', "perhaps Europe/Dublin"),
        ('month = "2027-03"', 'month = "2027-13"', "is not a calendar month"),
    ],
)
def test_each_mistake_says_what_is_wrong(write, old, new, says):
    path = write(GOOD)
    path.write_text(path.read_text().replace(old, new))
    from echotally.projection.loaded import load

    with pytest.raises(BadInput) as caught:
        load(path)
    assert says in str(caught.value)


@pytest.mark.parametrize(
    ("address", "value", "says"),
    [
        ("functions.f.memory", "1", "--set: functions.f.memory: needs a unit"),
        ("functions.f.memori", "1 GB", "unknown key; did you mean memory?"),
        ("triggers.4.batch", "5", "has no such element"),
        ("functions.f.memory.x", "5", "leads through a plain value"),
        ("..", "5", "is not an address"),
        (
            "functions.g.memory",
            "1 GB",
            "--set: functions.g.run: is required and missing (functions.g is not in the file)",
        ),
        ("function.f.memory", "1 GB", "--set: function: unknown key; did you mean functions?"),
        (
            "demand.dd.rate",
            "1 /s",
            "--set: demand.dd.into: is required and missing (demand.dd is not in the file; did you mean demand.d?)",
        ),
        ("targetsx.lost", "5", "--set: targetsx: unknown key; did you mean targets?"),
        (
            "demand.d.into",
            "queue.q",
            'names no source; did you mean queues.q? (found "queue.q"). Allowed: queues.NAME, ',
        ),
        ("demand.d.into", "q", 'names no source (found "q"). Allowed: queues.NAME, topics.NAME, '),
        (
            "exchange",
            '{ date = 2027-01-01, into = "euro", rates = { EUR = "1" } }',
            "Allowed: three capital letters, such as EUR",
        ),
    ],
)
def test_overrides_are_checked_like_the_file(write, address, value, says):
    with pytest.raises(BadInput) as caught:
        load_model(write(GOOD), [(address, value)])
    assert says in str(caught.value)


def test_a_slip_in_a_name_makes_no_table_that_nothing_reads(river):
    with pytest.raises(BadInput) as caught:
        load_model(river, [("queues.smss.tries", "3")])
    assert str(caught.value) == (
        "--set: queues.smss.tries: queues.smss is not in the file. Allowed: addresses of the file, such as queues.sms"
    )
    assert load_model(river, [("queues.sms.tries", "3")]).queues["sms"].tries == 3
    assert "later" in load_model(river, [("queues.later.tries", "3")]).queues


def test_an_override_changes_one_value_and_leaves_the_measured_memory(write):
    model = load_model(write(GOOD), [("functions.f.memory", "1 GB"), ("triggers.0.batch", "7")])
    assert (model.functions["f"].memory, model.triggers[0].batch) == (1024, 7)
    assert model.functions["f"].measured_at == 256


def test_mistakes_in_the_defaults_are_reported_there_once(write):
    path = write(GOOD)
    path.write_text(path.read_text() + '\n[defaults]\ntimeout = "x"\nbogus = 1\n')
    with pytest.raises(BadInput) as caught:
        load_model(path)
    assert sorted(p.address for p in caught.value.problems) == ["defaults.bogus", "defaults.timeout"]


def test_a_float_price_is_refused_and_says_why(write):
    path = write(GOOD, prices="calls = { unit = 0.2 }")
    from echotally.projection.project import load

    with pytest.raises(BadInput, match="floats cannot hold cents exactly"):
        load(path)


def test_usage_errors_leave_with_two(tmp_path):
    assert run_program("projct", "x", cwd=tmp_path).returncode == 2
    assert "did you mean 'project'" in run_program("projct", cwd=tmp_path).stderr
    assert run_program("project", cwd=tmp_path).returncode == 2


def test_of_a_thousand_names_that_lead_nowhere_the_first_are_compared_and_the_rest_said(write):
    names = [f"a{n}" for n in range(1_000)]
    sources = "".join(f"[endpoints.{name}]\n" for name in names)
    wrong = "".join(f'[[triggers]]\nfrom = "endpoints.{name}x"\nto = "f"\n' for name in names)
    with pytest.raises(BadInput) as error:
        load_model(write('[functions.f]\nmemory = "512 MB"\nrun = "1 s"\n' + sources + wrong))
    problems = error.value.problems
    assert len(problems) == 1_000
    # Each comparison looks at every name there is: of twenty mistakes of one kind people look at the first.
    assert [n for n, p in enumerate(problems) if "did you mean endpoints.a" in str(p)] == list(range(20))
    assert all(str(p).endswith("endpoints.a18, endpoints.a19 and 980 more") for p in problems)
