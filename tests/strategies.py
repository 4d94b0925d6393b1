"""Small random estates that are legal by construction: all sources, all kinds of plan, everything that can fail or wait."""

from __future__ import annotations

from hypothesis import strategies as st

CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
{keys}
[plans.plan.price]
calls = {{ unit = "1" }}
"""
PER_CALL = 'bills = "runs"\nmemory = { choices = ["256 MB", "512 MB"] }\nvcpu_per_gb = 1\n'
RESERVED = (
    'bills = "reserved"\nmemory = { choices = ["256 MB", "512 MB"] }\ninstance_memory = "1 GB"\ninstance_vcpu = 2\n'
)
NODES = 'bills = "nodes"\nmemory = { choices = ["256 MB", "512 MB"] }\nvcpu_per_gb = 1\nnode_memory = "1 GB"\nnode_vcpu = 2\n'
ms = st.integers(1, 40).map(lambda n: f"{n * 250} ms")
chance = st.booleans()
moments = st.integers(0, 24).map(lambda n: f"2027-03-01T00:{n * 15 // 60:02}:{n * 15 % 60:02}")
crons = st.sampled_from(["0 0 1 3 *", "1 0 1 3 *", "*/2 0 1 3 *", "1-59/3 0-2 1 3 *", "2 0 1 3 *"])


def maybe(strategy, text):
    """A line of TOML, or nothing."""
    return st.one_of(st.just(""), strategy.map(lambda value: text.format(value) + "\n"))


@st.composite
def plans(draw):
    kind = draw(st.sampled_from(["per-call", "per-call", "polled", "polled", "reserved", "nodes", "nodes"]))
    common = draw(maybe(ms, 'wait_limit = "{}"')) + draw(maybe(st.integers(1, 6), "concurrency_limit = {}"))
    if kind == "reserved":
        common += draw(st.sampled_from(["", 'payload_limit = "2500 kB"\n']))
        common += draw(st.sampled_from(["", "used_gb = 0.25\nused_vcpu = 0.5\n"]))
        return RESERVED + common + f"instances = {draw(st.integers(1, 2))}\n"
    if kind == "nodes":
        kind = draw(st.sampled_from(["per-call", "polled"]))
        text = NODES + draw(st.sampled_from(["", "vcpu_each = 0.75\n"])) + draw(maybe(ms, 'node_start = "{}"'))
        text += f"nodes_limit = {draw(st.integers(1, 3))}\nnodes_floor = {draw(st.integers(0, 1))}\n"
        text += draw(maybe(st.sampled_from(["5 s", "2 min"]), 'node_keep_alive = "{}"'))
    else:
        text = PER_CALL
    text += common + draw(maybe(st.integers(1, 5), "instance_limit = {}"))
    text += draw(st.sampled_from(["", 'payload_limit = "2500 kB"\n', 'payload_limit = "6 MB"\n']))
    text += draw(maybe(st.sampled_from(["1 s", "10 s", "90 s"]), 'keep_alive = "{}"'))
    text += draw(st.sampled_from(["", "timeout_covers_cold_start = true\n"]))
    text += draw(st.sampled_from(["", "cold_start_billed = true\n"])) + draw(st.sampled_from(["", 'pull = "eager"\n']))
    text += draw(st.sampled_from(["", 'rounding = { time = "100 ms", at_least = "300 ms" }\n']))
    if kind == "polled":
        every, step = draw(st.sampled_from(["5 s", "30 s"])), draw(st.integers(1, 4))
        first = draw(maybe(st.integers(1, 3), ", first = {}")).strip()
        text += f'scaling = {{ kind = "polled", every = "{every}", per_instance = {draw(st.integers(1, 8))}, step = {step}{first} }}\n'
    bills = draw(st.sampled_from(["runs", "active", "allocated"]))
    text = text.replace('bills = "runs"', f'bills = "{bills}"')
    if kind == "per-call" and draw(chance):
        text += f'scaling = {{ kind = "per-call", burst = {draw(st.integers(1, 3))}, ramp = "{draw(st.integers(1, 30))} /min" }}\n'
    return text


@st.composite
def sources(draw, name, function, inner):  # noqa: C901 - a branch a kind of source
    """One source with its demand and trigger; ``inner``: a queue that may take dead letters."""
    kind = draw(st.sampled_from(["queues", "queues", "streams", "endpoints", "folders", "topics", "schedules"]))
    trigger = f'[[triggers]]\nfrom = "{kind}.{name}"\nto = "{function}"\n'
    body, demand = "", ""
    if kind == "queues":
        body = draw(maybe(st.sampled_from(["2 s", "7 s", "40 s"]), 'visibility = "{}"')) + draw(
            maybe(ms, 'delay = "{}"')
        )
        body += draw(maybe(st.integers(1, 12), "backlog = {}"))
        body += f'retention = "{draw(st.sampled_from(["20 s", "3 min", "10 min"]))}"\n'
        if draw(st.integers(0, 2)) == 0:
            body += "fifo = true\n" + draw(maybe(st.integers(1, 3), "groups = {}"))
        if draw(chance):
            body += f'dead_letter = "{inner}"\ntries = {draw(st.integers(1, 3))}\n'
        trigger += draw(maybe(st.integers(1, 5), "batch = {}")) + draw(maybe(ms, 'batch_wait = "{}"'))
        trigger += draw(maybe(st.integers(1, 3), "readers = {}"))
    elif kind == "streams":
        body = draw(maybe(st.sampled_from([1, 2, 3, 11]), "partitions = {}")) + draw(
            maybe(st.sampled_from([0.2, 0.7]), "skew = {}")
        )
        body += draw(maybe(st.sampled_from(["5 s", "30 s"]), 'retention = "{}"'))
        trigger += draw(maybe(st.integers(1, 5), "batch = {}")) + draw(maybe(ms, 'batch_wait = "{}"'))
        trigger += draw(maybe(st.integers(1, 2), "readers = {}")) + f"tries = {draw(st.integers(1, 3))}\n"
    elif kind == "schedules":
        body = f'cron = "*/{draw(st.integers(1, 3))} 0 1 3 *"\nitems = {draw(st.integers(1, 4))}\n'
        body += draw(st.sampled_from(["", 'overlap = "skip"\n']))
    elif kind == "topics":
        share = draw(st.sampled_from([1, 0.6]))
        body = f'feeds = [{{ into = "{inner}", share = {share} }}]\n' if draw(chance) else ""
        trigger += draw(maybe(st.sampled_from([0.5, 1]), "share = {}"))
    if kind in ("queues", "streams"):
        trigger += draw(st.sampled_from(["", 'on_failure = "failed"\n']))
    if kind not in ("schedules", "queues", "streams", "endpoints") and draw(chance):
        trigger += f'dead_letter = "{inner}"\n'
    if kind != "schedules":
        lumps = draw(
            st.lists(
                st.tuples(st.integers(0, 90), st.integers(1, 9), st.sampled_from(["0 s", "5 s"])),
                min_size=1,
                max_size=3,
            )
        )
        rows = ", ".join(
            f'{{ at = "2027-03-01T00:{at // 60:02}:{at % 60:02}", count = {n}, over = "{over}" }}'
            for at, n, over in lumps
        )
        demand = f'[demand.{name}]\ninto = "{kind}.{name}"\nlumps = [{rows}]\n'
        demand += draw(maybe(st.sampled_from(["1 MB", "2 MB", "3 MB"]), 'payload = "{}"'))
        if kind == "endpoints":
            demand += draw(maybe(st.integers(1, 3), "client_tries = {}"))
    return f"[{kind}.{name}]\n{body}{demand}{trigger}"


@st.composite
def troubles(draw, names):
    """Incidents of every kind, some of one function, some that hold at once."""
    text = ""
    for number in range(draw(st.integers(0, 3))):
        body = f'[[incidents]]\nname = "i{number}"\nlasts = "{draw(st.sampled_from(["5 s", "45 s", "2 min"]))}"\n'
        body += draw(st.one_of(moments.map('at = "{}"\n'.format), crons.map('cron = "{}"\n'.format)))
        own = draw(maybe(st.sampled_from([0.5, 2, 4]), "run_times = {}"))
        own += draw(maybe(st.sampled_from(["2 s", "1 h"]), 'run = "{}"'))
        own += draw(maybe(st.sampled_from([0.25, 1]), "error_rate = {}")) or ("" if own else "error_rate = 0.5\n")
        whole = draw(maybe(st.integers(0, 3), "concurrency_limit = {}"))
        whole += draw(st.sampled_from(["", "no_new_instances = true\n"]))
        if whole and draw(chance):
            text += body + whole + draw(st.sampled_from(["", own]))
        else:
            text += body + own + draw(maybe(st.sampled_from(names), 'functions = ["{}"]'))
    return text


@st.composite
def happenings(draw):
    """Releases, floors by the clock, requests and runs of a function: mixtures, and such that belong to their event."""
    text = draw(maybe(moments, 'releases = [{{ at = "{}" }}]'))
    text += draw(
        maybe(
            st.tuples(crons, st.integers(0, 3), crons, st.integers(0, 3)),
            'instance_floors = [{{ cron = "{0[0]}", floor = {0[1]} }}, {{ cron = "{0[2]}", floor = {0[3]} }}]',
        )
    )
    text += draw(st.sampled_from(["", 'retry_run = "same"\n']))
    if draw(chance):
        asks = draw(
            st.lists(
                st.tuples(st.sampled_from([1, 2, 0.4, 1.3]), st.sampled_from(["1 kB", "3 MB"]), chance),
                min_size=1, max_size=2,
            )
        )  # fmt: skip
        rows = ", ".join(
            f'{{ to = "endpoints.asked", each = {each}, payload = "{size}", needs = {str(needs).lower()} }}'
            for each, size, needs in asks
        )
        text += f"asks = [{rows}]\n"
    return text


def _run(draw):
    one, other = draw(ms), draw(ms)
    mix = f'{{ mix = [{{ share = 0.75, constant = "{one}" }}, {{ share = 0.25, constant = "{other}" }}] }}'
    return draw(st.sampled_from([f'"{one}"', mix]))


@st.composite
def estates(draw):
    names = ["f", "g", "h"][: draw(st.integers(1, 3))]
    text = ""
    for name in names:
        memory = draw(st.sampled_from(["256 MB", "512 MB"]))
        text += f'[functions.{name}]\nmemory = "{memory}"\nrun = {_run(draw)}\ntimeout = "{draw(ms)}"\n'
        text += f'cold_start = "{draw(st.one_of(st.just("0 s"), ms))}"\n' + draw(maybe(ms, 'per_item = "{}"'))
        # Shares and sizes that halve exactly: the same instant must come out of either order of multiplication.
        text += f"cpu_share = {draw(st.sampled_from([0, 0.25, 0.5, 1]))}\nthreads = {draw(st.integers(1, 2))}\n"
        text += draw(maybe(st.sampled_from(["256 MB", "512 MB"]), 'measured_at = "{}"')) + draw(
            maybe(ms, 'per_mb = "{}"')
        )
        # A floor lies within the function's own limit, which may be above the plan's.
        text += draw(maybe(st.integers(3, 4), "instance_limit = {}"))
        text += draw(maybe(st.integers(1, 3), "instance_floor = {}")) + draw(maybe(st.integers(2, 3), "slots = {}"))
        text += draw(happenings())
        if draw(chance):
            each, size = draw(st.sampled_from([1, 0.4, 1.3])), draw(st.sampled_from(["1 kB", "3 MB"]))
            text += f'emits = [{{ into = "queues.inner", each = {each}, payload = "{size}" }}]\n'
        text += draw(maybe(st.sampled_from([0.1, 0.5]), "error_rate = {}")) + draw(
            maybe(st.sampled_from([0.05, 0.3]), "poison_rate = {}")
        )
    for number, name in enumerate(names):
        text += draw(sources(f"s{number}", name, "queues.inner"))
    text += '[functions.last]\nmemory = "256 MB"\ncpu_share = 0\nrun = "1 s"\n'
    text += '[queues.inner]\n[[triggers]]\nfrom = "queues.inner"\nto = "last"\nbatch = 3\n'
    # What is asked may ask in its turn.
    deeper = draw(st.sampled_from(["", 'asks = [{ to = "endpoints.deeper", needs = false }]\n']))
    text += (
        f'[functions.answer]\nmemory = "256 MB"\ncpu_share = 0.5\nrun = "{draw(ms)}"\ntimeout = "{draw(ms)}"\n{deeper}'
    )
    text += draw(maybe(st.integers(3, 4), "instance_limit = {}")) + draw(
        maybe(st.sampled_from([0.2]), "error_rate = {}")
    )
    text += f'[functions.deep]\nmemory = "256 MB"\nrun = "{draw(ms)}"\n[endpoints.asked]\n[endpoints.deeper]\n'
    text += (
        '[[triggers]]\nfrom = "endpoints.asked"\nto = "answer"\n[[triggers]]\nfrom = "endpoints.deeper"\nto = "deep"\n'
    )
    return text + draw(troubles(names)), draw(plans())


@st.composite
def crowds(draw):
    """Many functions that share little room: some have a source of their own, some compete for one queue, some have the same minute."""
    text = '[queues.inner]\n[queues.shared]\nvisibility = "40 s"\n[schedules.all]\ncron = "*/2 0 1 3 *"\n'
    text += '[demand.shared]\ninto = "queues.shared"\nlumps = [{ at = "2027-03-01T00:00:30", count = 40, over = "1 min" }]\n'
    for number in range(draw(st.integers(4, 8))):
        name = f"f{number}"
        memory = draw(st.sampled_from(["256 MB", "512 MB"]))
        text += (
            f'[functions.{name}]\nmemory = "{memory}"\nrun = {_run(draw)}\ncold_start = "{draw(ms)}"\ncpu_share = 0\n'
        )
        text += draw(maybe(st.integers(1, 2), "instance_limit = {}")) + draw(maybe(st.just(0.2), "error_rate = {}"))
        kind = draw(st.sampled_from(["own", "shared", "shared", "all"]))
        if kind == "own":
            text += draw(sources(f"s{number}", name, "queues.inner"))
            continue
        source = "queues.shared" if kind == "shared" else "schedules.all"
        text += f'[[triggers]]\nfrom = "{source}"\nto = "{name}"\n'
        if kind == "shared":
            text += draw(maybe(st.integers(1, 4), "batch = {}")) + draw(maybe(ms, 'batch_wait = "{}"'))
            text += draw(maybe(st.integers(1, 3), "readers = {}"))
    plan = draw(plans())
    tight = "" if "concurrency_limit" in plan else f"concurrency_limit = {draw(st.integers(1, 3))}\n"
    return text + draw(troubles(["f0", "f1"])), plan + tight
