"""Every finding: a small model that raises it, and its mended twin that does not."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from echotally import findings
from echotally.errors import BadInput
from echotally.findings import RULES, check_model
from echotally.findings.context import Context
from echotally.projection.loaded import load
from echotally.projection.project import project
from tests.conftest import CARD, run_program

PLAN_KEYS = 'timeout_limit = "15 min"\nconcurrency_limit = 1000'
PRICES = """
calls = { per = 1_000_000, unit = "20" }
gb_seconds = { unit = "0.002" }
idle_gb_seconds = { unit = "0.0001" }
stream_partition_hours = { unit = "0.01" }
queue_operations = { per = 1_000_000, unit = "4" }
"""
F = '[functions.f]\nmemory = "512 MB"\ntimeout = "2 s"\nrun = "100 ms"\ncpu_share = 0\ntags = { team = "a" }\n'
G = F.replace("functions.f", "functions.g")
Q = '[queues.q]\n[demand.d]\ninto = "queues.q"\nrate = "4 /min"\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n'
S = '[schedules.s]\ncron = "0 4 * * *"\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
E = '[endpoints.e]\n[demand.d]\ninto = "endpoints.e"\nrate = "4 /min"\n[[triggers]]\nfrom = "endpoints.e"\nto = "f"\n'
X = '[streams.x]\n[demand.d]\ninto = "streams.x"\nrate = "20 /min"\n[[triggers]]\nfrom = "streams.x"\nto = "f"\n'
T = '[topics.t]\n[demand.d]\ninto = "topics.t"\nrate = "4 /min"\n[[triggers]]\nfrom = "topics.t"\nto = "f"\n'

ASKED = '[endpoints.p]\n[[triggers]]\nfrom = "endpoints.p"\nto = "g"\n'
FLOORS = 'instance_floors = [{ cron = "0 7 * * *", floor = 1 }, { cron = "0 7 * * 1-5", floor = 2 }, { cron = "0 19 * * *", floor = 0 }]\ntags'


def cron(text: str, more: str = "") -> str:
    return S.replace('"0 4 * * *"', f'"{text}"{more}')


#: (code, what raises it, the text to change, what mends it, more keys of the plan or card)
CASES = [
    ("S01", F + S.replace("schedules.s", "schedules.daily-sum").replace("0 4 * * *", "* * * * *"), "* * * * *", "0 4 * * *"),
    ("S01", F + cron("* * * * *", "\nitems = 500").replace("0 4", "*"), "items = 500", "items = 5"),
    ("S02", F + cron("1 * * * *"), "1 * * * *", "*/1 * * * *"),
    ("S03", F + cron("0 4 13 * FRI"), "13 * FRI", "13 * *"),
    ("S04", F + cron("30 1 * * *", '\ntimezone = "Europe/Dublin"'), "30 1", "30 5"),
    ("S05", F + cron("0 0 1 * *", '\ntimezone = "UTC"'), '"UTC"', '"Europe/Dublin"'),
    ("S07", F + cron("0 4 1 6 *"), "1 6 *", "1 3 *"),
    ("S06", F.replace('"100 ms"', '"90 s"').replace('"2 s"', '"3 min"') + cron("*/1 * * * *"), "*/1", "*/5"),
    ("T01", F.replace('"2 s"', '"500 ms"').replace('run = "100 ms"', 'run = { median = "300 ms", p95 = "600 ms" }') + E, '"500 ms"', '"2 s"'),
    ("T02", F.replace('"2 s"', '"20 min"') + E, '"20 min"', '"2 s"'),
    ("T03", F.replace('"2 s"', '"1 min"') + E, '"1 min"', '"2 s"'),
    ("T04", F.replace('"2 s"', '"3 s"') + E, '"3 s"', '"2 s"', 'gateway_wait = "2 s"'),
    ("T06", F.replace('"2 s"', '"5 min"').replace('"100 ms"', '"290700 ms"') + S, '"290700 ms"', '"100 s"'),
    ("S08", F + cron("0 4 * * 1") + S.replace("schedules.s", "schedules.z").replace("0 4 * * *", "0 4 ? * 2 *"), "? * 2 *", "? * MON *"),
    ("L05", F + E.replace("4 /min", "4 /h"), "4 /h", "40 /min"),
    ("T05", F + "per_item = '18 ms'\n" + Q + "batch = 100\n", "batch = 100", "batch = 50"),
    ("M01", F + 'memory_used = "100 MB"\n' + Q.replace("4 /min", "25 /min"), '"100 MB"', '"400 MB"'),
    ("M02", F + 'memory_used = "500 MB"\n' + Q, '"500 MB"', '"400 MB"'),
    ("M03", F.replace("cpu_share = 0", 'cpu_share = 1\nthreads = 4\nmemory_used = "256 MB"') + Q.replace("4 /min", "25 /min"),
     "cpu_share = 1", "cpu_share = 0.1", 'memory_billed = "used"'),
    ("Q01", F + Q.replace("[queues.q]", '[queues.q]\nvisibility = "1 s"'), '"1 s"', '"10 s"'),
    ("Q02", F + Q.replace("[queues.q]", "[queues.q]\ntries = 3\n"), "tries = 3", 'tries = 3\ndead_letter = "queues.parked"\n[queues.parked]'),
    ("Q03", F + Q.replace("[queues.q]", '[queues.q]\nretention = "1 h"\nbacklog = 50_000').replace('"queues.q"\nto', '"queues.q"\nreaders = 1\nto'),
     '"1 h"', '"4 h"'),
    ("Q04", F.replace("100 ms", "1 s") + X.replace("20 /min", "1.5 /s"), "1.5 /s", "0.5 /s"),
    ("Q04", F.replace("tags", "instance_limit = 1\ntags").replace("100 ms", "1 s") + Q.replace("4 /min", "1.2 /s"), "1.2 /s", "0.3 /s"),
    ("Q05", F + Q.replace("rate =", 'payload = "100 kB"\nrate =') + "batch = 10\n", "batch = 10", "batch = 2", 'payload_limit = "256 kB"'),
    ("Q06", F + X.replace("[streams.x]", "[streams.x]\npartitions = 4"), "partitions = 4", "partitions = 1"),
    ("Q06", F + X.replace("[streams.x]", "[streams.x]\npartitions = 4\nskew = 0.8").replace("20 /min", "11 /s"), "skew = 0.8", "skew = 0.25"),
    ("Q07", F.replace("512", "128") + Q.replace("4 /min", "1 /h"), '"1 /h"', '"10 /s"'),
    ("Q07", F.replace("512", "128") + Q.replace("queues.q", "topics.t").replace("4 /min", "1 /h").replace("[topics.t]", '[topics.t]\nfeeds = [{ into = "queues.u", share = 0.5 }]\n[queues.u]').replace('from = "topics.t"', 'from = "queues.u"'), '"1 /h"', '"10 /s"'),
    ("Q08", F + T + '[[triggers]]\nfrom = "topics.t"\nto = "f"\n', '[[triggers]]\nfrom = "topics.t"\nto = "f"\n', ""),
    ("Q09", F + G + Q + '[[triggers]]\nfrom = "queues.q"\nto = "g"\n', 'from = "queues.q"\nto = "g"', 'from = "queues.r"\nto = "g"\n[queues.r]\nbacklog = 1'),
    ("L01", (F + G).replace("tags", "instance_limit = 600\ntags") + E + '[[triggers]]\nfrom = "queues.r"\nto = "g"\n[queues.r]\nbacklog = 1\n',
     "instance_limit = 600\ntags = { team = \"a\" }\n[end", "instance_limit = 300\ntags = { team = \"a\" }\n[end"),
    ("L02", F.replace("tags", "instance_limit = 1\ntags") + E.replace("4 /min", "25 /min"), "instance_limit = 1", "instance_limit = 9"),
    ("L03", F.replace("tags", "instance_floor = 30\ntags") + E, "instance_floor = 30", "instance_floor = 1"),
    ("L04", F.replace("cpu_share = 0", "cpu_share = 0.5\nslots = 8") + E, "slots = 8", "slots = 2"),
    ("C01", F + X.replace("20 /min", "1 /h"), "1 /h", "2 /s"),
    ("C02", F + Q + "[environments.live]\n[environments.copy]\ndemand = 0.5\n", "demand = 0.5", "demand = 0.01"),
    ("C03", F + E, "tags", "instance_limit = 20\ntags"),
    ("C04", F.replace('"100 ms"', '"400 ms"') + E.replace("4 /min", "40 /min"), "cpu_share = 0", "cpu_share = 0.9", 'bills = "active"'),
    ("C05", F + S + "", "0 4 * * *", "0 4 1 * *", "free"),
    ("C06", F + G.replace("tags", "emits = []\n#") + S + S.replace("schedules.s", "schedules.z").replace('"f"', '"g"'), "#", 'tags = { team = "b" }\n#'),
    ("W01", F + G + E, G, ""),
    ("W02", F + E + '[queues.empty]\n[[triggers]]\nfrom = "queues.empty"\nto = "f"\n', "[queues.empty]", "[queues.empty]\nbacklog = 5"),
    ("W03", F + E + '[folders.box]\n[demand.b]\ninto = "folders.box"\nrate = "1 /h"\n', '[folders.box]\n[demand.b]\ninto = "folders.box"\nrate = "1 /h"\n', ""),
    ("W04", F + E.replace("rate =", 'payload = "500 kB"\nrate ='), "500 kB", "5 kB", 'payload_limit = "256 kB"'),
    ("W05", F + E + '[outside.text]\nunit = "0.1"\n', '[outside.text]', '[functions.f.targets]\n[outside.text]'.replace("[functions.f.targets]\n", "[functions.z]\nmemory = '1 GB'\nrun = '1 s'\nuses = [{ what = 'text' }]\n")),
    ("A01", F.replace("tags", "asks = [{ to = 'endpoints.p' }]\ntags") + G.replace('"100 ms"', '"900 ms"') + E.replace("4 /min", "40 /min") + ASKED, "asks = [{ to", "asks = [{ each = 0.01, to"),
    ("A02", F.replace("tags", "asks = [{ to = 'endpoints.p' }]\ntags") + G.replace('"2 s"', '"9 s"') + E + ASKED, 'timeout = "2 s"', 'timeout = "10 s"'),
    ("A03", F.replace("tags", "asks = [{ to = 'endpoints.p' }]\ntags") + G + E + ASKED, "asks", "instance_limit = 9\nasks"),
    ("I01", F + E + '[[incidents]]\nname = "i"\nat = "2027-05-01T00:00"\nlasts = "1 h"\nerror_rate = 1\n', "2027-05", "2027-03"),
    ("I02", F.replace("tags", FLOORS) + E, '{ cron = "0 7 * * 1-5", floor = 2 }', '{ cron = "0 8 * * 1-5", floor = 2 }'),
    ("I03", F.replace("tags", 'releases = [{ cron = "0 12 * * *" }]\ntags') + E.replace("4 /min", "1 /min"), 'releases = [{ cron = "0 12 * * *" }]', "memory_used = '400 MB'", 'keep_alive = "3 h"'),
    ("C08", F + Q, "4 /min", "2000 /min", 'commitment = { per_hour = "0.05", discount = 0.1, covers = ["gb_seconds"] }'),
    ("C07", F.replace("tags", "error_rate = 0.2\nuses = [{ what = 'text', on = 'attempt' }]\ntags") + Q + '[outside.text]\nunit = "0.1"\n', "error_rate = 0.2", "error_rate = 0"),
]  # fmt: skip


#: Places of cases whose code came before.
_SECOND = {n for n, case in enumerate(CASES) if case[0] in {other[0] for other in CASES[:n]}}
#: An allowance that is nearly used and a month without a firing are facts; no change mends them.
ONLY_TO_KNOW = {"C05", "S07"}


def card_for(more: str) -> str:
    text = CARD.format(
        keys=PLAN_KEYS + ("\n" + more if more.partition(" ")[0] != "bills" and more != "free" else ""), prices=PRICES
    )
    if more.startswith("bills"):
        text = text.replace('bills = "runs"', more)
    return text + ("[plans.plan.allowance]\ncalls = 35\n" if more == "free" else "")


def codes(path) -> set[str]:
    return {finding.rule.code for finding in check_model(path).open()}


@pytest.mark.parametrize(
    "case",
    [
        # The second of a code goes by night.
        pytest.param(case, id=f"{case[0]}-{n}", marks=pytest.mark.nightly if n in _SECOND else ())
        for n, case in enumerate(CASES)
    ],
)
def test_a_model_raises_its_finding_and_the_mended_twin_does_not(write, case):
    code, text, old, new, *more = case
    zone = "Europe/Dublin" if code == "S05" else "UTC"
    card = card_for(more[0] if more else "")
    found = check_model(write(text, card=card, zone=zone)).open()
    assert code in {finding.rule.code for finding in found}
    # Each comes with a change that was tried, but those of which there is nothing to change.
    mine = [finding for finding in found if finding.rule.code == code]
    assert all(finding.noticed.sets for finding in mine) or code in ONLY_TO_KNOW, code
    assert old in text
    mended = text.replace(old, new, 1) if code != "W01" else text.replace(old, "")
    assert code not in codes(write(mended, card=card, zone=zone))


def test_every_finding_has_a_case():
    assert {case[0] for case in CASES} == set(RULES)


def test_a_clean_model_raises_nothing(write):
    clean = F.replace("tags", 'instance_limit = 20\nmemory_used = "400 MB"\ntags') + E.replace("4 /min", "25 /min")
    assert codes(write(clean, card=card_for(""))) == set()


def test_the_demo_raises_at_least_six_worth_reading(river):
    found = check_model(river).open()
    assert len({finding.rule.code for finding in found}) >= 6
    assert all(finding.noticed.sets and finding.noticed.effect and finding.line for finding in found)
    assert all(finding.noticed.outcome is not None for finding in found)


def test_the_savings_agree_with_project_of_the_suggested_change(write, river):
    # Nine findings or more: what is promised is what the change does to the month's bill on the same plan.
    agreed = []
    for code, text, _, _, *more in (case for n, case in enumerate(CASES) if n % 3 == 0 or case[0] in ("C01", "Q07")):
        path = write(text, card=card_for(more[0] if more else ""))
        agreed += _agreeing(path, code)
    agreed += _agreeing(river, None)
    assert len(set(agreed)) >= 8


def _agreeing(path, code) -> list[str]:
    checked = check_model(path)
    agreed = []
    for finding in checked.open():
        told = finding.noticed.outcome
        if finding.noticed.saves is None or code not in (None, finding.rule.code) or (told and told.sampled):
            continue
        before = project(path, plans=[checked.plan]).played[0].bill.unrounded
        after = project(path, finding.noticed.sets, [checked.plan]).played[0].bill.unrounded
        assert before - after == finding.noticed.saves, finding.rule.code
        agreed.append(finding.rule.code)
    return agreed


def test_the_smallest_limit_that_throttles_nothing_is_the_smallest(write):
    path = write(F.replace("tags", "instance_limit = 1\ntags") + E.replace("4 /min", "25 /min"), card=card_for(""))
    finding = next(f for f in check_model(path).open() if f.rule.code == "L02")
    ((address, limit),) = finding.noticed.sets

    def throttled(n: int) -> int:
        return project(path, [(address, str(n))]).played[0].measured.units[0].attempts["throttled"]

    assert throttled(int(limit)) == 0 < throttled(int(limit) - 1)


def test_the_largest_safe_batch_is_the_largest(write):
    path = write(F + "per_item = '18 ms'\n" + Q + "batch = 100\n", card=card_for(""))
    finding = next(f for f in check_model(path).open() if f.rule.code == "T05")
    # 100 ms + n x 18 ms <= 80 % of 2 s: n = 83.
    assert finding.noticed.sets == (("triggers.0.batch", "83"),)


ACCEPT = '\n[[accepted]]\nfinding = "T03"\nat = "functions.f"\nreason = "a probe that may hang"\n'


DEARER = """
[plans.large]
bills = "reserved"
memory = { choices = ["128 MB", "512 MB"] }
instances = 4
instance_memory = "4 GB"
instance_vcpu = 4
[plans.large.price]
reserved_hours = { unit = "1" }
"""


@pytest.mark.parametrize("fed_by_topic", [False, True], ids=["by-demand", "by-topic"])
def test_advice_on_idle_polls_never_costs_more_and_never_drops_the_work(write, fed_by_topic):
    # A plan without queue operations is there, but it costs 2,976 a month; handing the events over by a topic saves.
    model = F.replace("512", "128") + Q.replace("4 /min", "1 /h")
    if fed_by_topic:
        model = model.replace('into = "queues.q"', 'into = "topics.t"')
        model += '[topics.t]\nfeeds = [{ into = "queues.q", share = 1 }]\n'
    path = write(model, card=card_for("") + DEARER)
    finding = next(f for f in check_model(path).open() if f.rule.code == "Q07")
    before, after = (project(path, sets).plan("test.plan") for sets in ((), finding.noticed.sets))
    assert finding.noticed.saves == before.bill.unrounded - after.bill.unrounded > 0
    handled = [sum(u.events["succeeded"] for u in plan.measured.units) for plan in (before, after)]
    assert handled[0] == handled[1] > 700


def test_an_accepted_finding_is_kept_with_its_reason_and_does_not_count(write, tmp_path):
    path = write(F.replace('"2 s"', '"1 min"') + "instance_limit = 9\n" + E, card=card_for(""))
    assert "T03" in codes(path)
    path.write_text(path.read_text() + ACCEPT)
    checked = check_model(path)
    assert "T03" not in {f.rule.code for f in checked.open()}
    assert [f.accepted for f in checked.findings if f.rule.code == "T03"] == ["a probe that may hang"]
    path.write_text(path.read_text().replace('finding = "T03"', 'finding = "Z99"'))
    with pytest.raises(BadInput, match=r"accepted.0.finding: there is no such finding"):
        check_model(path)


def test_strict_turns_warnings_into_two_and_errors_always_are(write, tmp_path):
    path = write(F + Q.replace("[queues.q]", '[queues.q]\nvisibility = "1 s"'), card=card_for(""))
    assert run_program("check", path.name, cwd=tmp_path).returncode == 0
    assert run_program("check", path.name, "--strict", cwd=tmp_path).returncode == 2
    path = write(F + E.replace("rate =", 'payload = "500 kB"\nrate ='), card=card_for('payload_limit = "256 kB"'))
    assert run_program("check", path.name, cwd=tmp_path).returncode == 2


def test_json_and_sarif_carry_every_finding(river, tmp_path):
    text = run_program("check", str(river), cwd=tmp_path).stdout
    data = json.loads(run_program("check", str(river), "--format", "json", cwd=tmp_path).stdout)
    log = json.loads(run_program("check", str(river), "--format", "sarif", cwd=tmp_path).stdout)
    results = log["runs"][0]["results"]
    assert log["version"] == "2.1.0"
    assert [r["ruleId"] for r in results] == [f["code"] for f in data["findings"]]
    known = {rule["id"] for rule in log["runs"][0]["tool"]["driver"]["rules"]}
    for finding, result in zip(data["findings"], results, strict=True):
        assert finding["code"] in known and finding["code"] in text
        assert result["level"] in ("error", "warning", "note")
        assert result["locations"][0]["physicalLocation"]["region"]["startLine"] == finding["line"]
        assert finding["set"] and all("=" in change for change in finding["set"])
        assert finding["saves"] is None or Decimal(finding["saves"]) > 0


def test_taking_a_value_out_by_an_override(write):
    path = write(F + Q, card=card_for(""))
    with pytest.raises(BadInput, match="is not there to be taken out"):
        check_model(path, [("functions.f.plan", "")])
    assert project(path, [("functions.f.tags", "")]).plans[0].feasible


ESTATES = {
    "files that take longer by their size": F.replace('"2 s"', '"30 s"').replace("tags", 'per_mb = "350 ms"\ntags')
    + E.replace("endpoints", "folders").replace("rate =", 'payload = { median = "8 MB", p95 = "90 MB" }\nrate ='),
    "runs with a tail of samples": F.replace('"2 s"', '"1 min"').replace('run = "100 ms"', 'run = { samples = "tail.csv" }') + E,
    "results written to a folder": F.replace("tags", 'emits = [{ into = "folders.out", each = 3 }]\ntags') + Q + "[folders.out]\n",
    "alerts nobody reads": F.replace("tags", 'emits = [{ into = "queues.out", each = 3 }]\ntags') + Q + "[queues.out]\n",
    "a source nobody feeds": F + E + '[topics.none]\n[[triggers]]\nfrom = "topics.none"\nto = "f"\n',
    "every run times out": F.replace('"100 ms"', '"20 min"') + S,
    "a backlog that grows": F.replace("tags", "instance_limit = 1\ntags") + Q.replace("4 /min", "12 /s"),
    "a busy floor": F.replace("tags", "instance_floor = 9\nslots = 4\ntags").replace("cpu_share = 0", "cpu_share = 0.5") + E.replace("4 /min", "9 /s"),
    "short visibility": F + Q.replace("[queues.q]", '[queues.q]\nvisibility = "1 s"\ntries = 2'),
    "clients in a circle": F.replace("tags", "instance_limit = 3\ntags") + E.replace('rate = "4 /min"', 'clients = 5\nthink = "20 s"'),
}  # fmt: skip
_MAY_GROW = {"cold_starts", "cold_calls"}


#: Large months, whose changes take half a minute to play: one of them is enough by day.
_LONG = {"a backlog that grows", "a busy floor", "Q04", "Q06"}


@pytest.mark.parametrize(
    "name",
    [
        pytest.param(name, marks=pytest.mark.nightly if name in _LONG else ())
        for name in (*ESTATES, "the demo", *sorted({case[0] for case in CASES}))
    ],
)
def test_every_suggestion_does_what_it_promised(write, river, tmp_path, name):
    """Applied through the program: it can be, a plan stays usable, and nothing gets worse that was not said."""
    (tmp_path / "tail.csv").write_text("ms\n" + "100\n" * 997 + "9000\n20000\n30000\n")
    if name == "the demo":
        path = river
    else:
        texts = {case[0]: (case[1], case_card(case)) for case in CASES} | {
            n: (t, card_for("")) for n, t in ESTATES.items()
        }
        text, card = texts[name]
        path = write(text, card=card, zone="Europe/Dublin" if name == "S05" else "UTC")
    checked = check_model(path)
    before = project(path, plans=[checked.plan]).plans[0]
    for finding in checked.open():
        if not finding.noticed.sets:
            continue
        after = project(path, finding.noticed.sets, [checked.plan]).plans[0]
        outcome = finding.noticed.outcome
        assert after.feasible and outcome is not None, finding.rule.code
        if outcome.opens:
            assert not before.feasible
            continue
        if outcome.sampled:
            # Of a large month a small sample is played: what it says is about right.
            assert float(outcome.cost) == pytest.approx(
                float(after.bill.unrounded - before.bill.unrounded), abs=0.02 * float(before.bill.unrounded)
            )
            continue
        assert after.bill.unrounded - before.bill.unrounded == outcome.cost
        for kind in ("timed_out", "throttled"):
            told = outcome.figures[kind]
            assert told == tuple(sum(u.attempts[kind] for u in plan.measured.units) for plan in (before, after))
        for figure, (was, now) in outcome.figures.items():
            slack = 0.05 + 0.05 * was if figure == "wait_p95_s" else 1 + 3 * was**0.5
            assert figure in {*_MAY_GROW, *finding.noticed.accepts} or now <= was + slack, (finding.rule.code, figure)


def case_card(case) -> str:
    return card_for(case[4] if len(case) > 4 else "")


def test_findings_of_one_code_stand_together_worst_money_first_and_few_are_shown(write, tmp_path):
    many = "".join(F.replace("functions.f", f"functions.f{n}").replace('"2 s"', '"1 min"') for n in range(12))
    wiring = "".join(
        f'[endpoints.e{n}]\n[demand.d{n}]\ninto = "endpoints.e{n}"\nrate = "{n + 1} /min"\n'
        f'[[triggers]]\nfrom = "endpoints.e{n}"\nto = "f{n}"\n'
        for n in range(12)
    )
    path = write(many + wiring, card=card_for(""))
    found = check_model(path).open()
    codes_in_order = [f.rule.code for f in found]
    assert len([c for n, c in enumerate(codes_in_order) if n == 0 or codes_in_order[n - 1] != c]) == len(
        set(codes_in_order)
    )
    done = run_program("check", "model.toml", cwd=tmp_path)
    assert "T03: the timeout is far above any run (12 places)" in done.stdout
    assert "... and 7 more of T03; --format json has all." in done.stdout


def test_a_folder_that_results_land_in_is_no_finding_and_its_cost_is_its_writers(write):
    text = ESTATES["results written to a folder"]
    path = write(text, card=card_for("").replace("queue_operations", "storage_operations"))
    assert "W03" not in codes(path)
    plan = project(path).plans[0]
    # Three operations for each event handled, at 4 a million, are the cost of f.
    handled = plan.measured.units[0].events["succeeded"]
    assert plan.bill.shares["f", "live"]["storage_operations"] == Decimal(3 * handled) * Decimal("0.000004")
    assert plan.bill.idle == 0


def test_a_timeout_is_never_suggested_above_the_plans_limit_nor_a_share_in_powers_of_ten(write):
    found = next(
        f for f in check_model(write(ESTATES["every run times out"], card=card_for(""))).open() if f.rule.code == "T01"
    )
    # 20 minutes of run, 15 minutes at the most on the only plan: nothing to suggest. 31 firings, three tries each.
    assert found.noticed.sets == ()
    assert "93 of 93 runs (100 %)" in found.noticed.text


@pytest.mark.parametrize(
    "name", [*(n for n in ESTATES if n not in _LONG), "M01", pytest.param("M03", marks=pytest.mark.nightly)]
)
def test_a_change_that_is_not_tried_would_not_have_been_worth_a_word(write, monkeypatch, tmp_path, name):
    """Findings are the same where every size is tried; what other runs of a function could save bounds what they do save."""
    (tmp_path / "tail.csv").write_text("ms\n" + "100\n" * 997 + "9000\n20000\n30000\n")
    case = next((case for case in CASES if case[0] == name), None)
    path = write(case[1] if case else ESTATES[name], card=case_card(case) if case else card_for(""))
    told = [(f.rule.code, f.noticed.sets) for f in check_model(path).findings]
    stakes: dict[str, Decimal | None] = {}

    def every(ctx: Context, function: str) -> None:
        stakes[function] = bound(ctx, function)

    def every_longer(ctx: Context, function: str) -> None:
        in_time[function] = bound_in_time(ctx, function)

    bound, bound_in_time, in_time = Context.at_stake, Context.at_stake_in_time, dict[str, Decimal | None]()
    monkeypatch.setattr(Context, "at_stake", every)
    monkeypatch.setattr(Context, "at_stake_in_time", every_longer)
    assert [(f.rule.code, f.noticed.sets) for f in check_model(path).findings] == told
    checked = check_model(path)
    before = project(path, plans=[checked.plan]).plans[0].bill
    for function, stake in stakes.items():
        for size in ("256 MB", "1 GB"):
            after = project(path, [(f"functions.{function}.memory", size)], [checked.plan]).plans[0].bill
            assert before is None or after is None or before.unrounded - after.unrounded <= stake
    for function, stake in in_time.items():
        after = project(path, [(f"functions.{function}.memory", "1 GB")], [checked.plan]).plans[0].bill
        assert before is None or after is None or before.unrounded - after.unrounded <= stake


@pytest.mark.parametrize("cpu_share", [0.5, 0.8, 1])
@pytest.mark.parametrize("run", ["101 ms", "130 ms", "210 ms", "310 ms", "399 ms", "2 s"])
@pytest.mark.parametrize("step", ["1 ms", "100 ms", "1 s"])
def test_where_twice_the_memory_costs_more_four_times_does_too(write, cpu_share, run, step):
    path = write(
        F.replace("cpu_share = 0", f"cpu_share = {cpu_share}").replace('"100 ms"', f'"{run}"').replace('"2 s"', '"9 s"') + S,
        card=card_for(f'rounding = {{ time = "{step}" }}'),
    )  # fmt: skip
    costs = [
        project(path, [("functions.f.memory", size)]).plans[0].bill.unrounded for size in ("512 MB", "1 GB", "2 GB")
    ]
    assert costs[1] <= costs[0] or costs[2] > costs[0]


def test_every_function_on_a_plan_that_was_played_is_that_month(write, monkeypatch):
    # The other plan costs less, most of all when nothing runs, and misses a target, so that this one is picked.
    first = card_for("idle_readers = 1").replace('unit = "4"', 'unit = "40"')
    other = first[first.index("[plans.plan]") :].replace("plans.plan", "plans.other").replace('"40"', '"20"')
    text = F + Q.replace("4 /min", "1 /h") + "[functions.f.targets]\nwait_p95 = '700 ms'\n"
    loaded = load(write(text, card=first + other.replace("[plans.other]", "[plans.other]\ncold_start_factor = 9")))

    def tried():
        offer, base, on_plans = findings._played(loaded, None, None, None)
        assert (offer.name, set(on_plans)) == ("test.plan", {"test.plan", "test.other"})
        ctx = Context(loaded.document.path, (), loaded, offer, base, on_plans)
        (noticed,) = RULES["C01"].look(ctx)
        assert noticed.sets == (("functions.f.plan", "test.other"),) and noticed.saves > 0
        now, then = ctx.tried[noticed.sets]
        return noticed, [(each.cost, each.totals, each.checks, each.sampled) for each in (now, then)]

    known = tried()
    monkeypatch.setattr(Context, "is_on_plan", lambda self, sets, name: None)
    assert tried() == known


def test_rules_try_changes_in_the_same_parts(write):
    loaded = load(write(F + Q))
    offer, base, on_plans = findings._played(loaded, None, None, None)
    ctx = Context(loaded.document.path, (), loaded, offer, base, on_plans)
    one, other = ctx.of_a_rule(), ctx.of_a_rule()
    # What is made once for all, however many rules there are; what a rule asked for is its own.
    assert one._trials is other._trials is ctx._trials and one._asked is not other._asked
