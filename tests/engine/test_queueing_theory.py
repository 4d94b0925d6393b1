"""Closed forms of queueing theory, each within the interval of independent replications."""

from __future__ import annotations

import math
from statistics import mean, stdev

import pytest

from tests.conftest import unit

# Two-sided 99.9 % point of Student's t with 7 degrees of freedom; seeds are fixed, so a test cannot flicker.
T7 = 5.408
DAY = 86_400
#: Only the first day of the month has demand: the surge silences the rest.
FIRST_DAY = 'surges = [{ at = "2027-03-02T00:00", lasts = "31 d", times = 0 }]'


def requests(rate: str, run: str, more: str = "", surges: str = FIRST_DAY) -> str:
    return f"""
[functions.f]
memory = "512 MB"
timeout = "1 h"
cold_start = "0 ms"
cpu_share = 0
run = {run}
{more}
[endpoints.e]
[demand.d]
into = "endpoints.e"
rate = "{rate}"
{surges}
[[triggers]]
from = "endpoints.e"
to = "f"
"""


def erlang_b(load: float, servers: int) -> float:
    """Blocking probability by the standard recursion (Erlang 1917)."""
    blocked = 1.0
    for n in range(1, servers + 1):
        blocked = load * blocked / (n + load * blocked)
    return blocked


def erlang_c_wait(rate: float, run_s: float, servers: int) -> float:
    """Mean wait of M/M/c, seconds."""
    load = rate * run_s
    blocked = erlang_b(load, servers)
    waiting = blocked / (1 - load / servers * (1 - blocked))
    return waiting * run_s / (servers - load)


def agrees(values: list[float], truth: float) -> bool:
    return abs(mean(values) - truth) <= T7 * stdev(values) / math.sqrt(len(values))


def mean_wait_s(u) -> float:
    return float(u.wait_sketch.sum_ns) / float(u.wait_sketch.counts.sum()) / 1e9


def test_the_issues_case_of_erlang_b_over_five_million_calls(play):
    # 80 calls a second for 7,850 s a seed: eight seeds make five million calls.
    window = 'surges = [{ at = "2027-03-01T02:10:50", lasts = "31 d", times = 0 }]'
    model = requests("80 /s", '{ mean = "1 s", shape = "exponential" }', "instance_limit = 100", window)
    units = [unit(play(model, seed)) for seed in range(8)]
    assert sum(u.attempts["total"] for u in units) > 4_990_000
    assert agrees([u.attempts["throttled"] / u.attempts["total"] for u in units], 0.003992)
    for u in units:
        # Little's law, L = lambda (1 - refused) W, over the 7,850 s that have demand.
        arrived = u.attempts["total"] / 7_850
        accepted = arrived * (1 - u.attempts["throttled"] / u.attempts["total"])
        assert u.concurrency.mean * (31 * DAY) / 7_850 == pytest.approx(accepted, rel=0.005)


@pytest.mark.parametrize(("rate", "servers"), [(2, 1), (5, 8), (20, 20), (9, 15)])
def test_erlang_b_holds_at_several_loads(play, rate, servers):
    model = requests(f"{rate} /s", '{ mean = "1 s", shape = "exponential" }', f"instance_limit = {servers}")
    shares = [u.attempts["throttled"] / u.attempts["total"] for u in (unit(play(model, s)) for s in range(8))]
    assert agrees(shares, erlang_b(rate, servers))


def test_erlang_b_does_not_depend_on_the_shape_of_the_runs(play):
    # Insensitivity: only the mean run matters (Sevastyanov 1957).
    model = requests("6 /s", '"1 s"', "instance_limit = 8")
    shares = [u.attempts["throttled"] / u.attempts["total"] for u in (unit(play(model, s)) for s in range(8))]
    assert agrees(shares, erlang_b(6, 8))


@pytest.mark.parametrize(("rate", "servers"), [(0.7, 1), (4, 5), (10, 12)])
def test_erlang_c_gives_the_wait_where_calls_may_wait(play, rate, servers):
    model = requests(f"{rate} /s", '{ mean = "1 s", shape = "exponential" }', f"instance_limit = {servers}")
    waits = [mean_wait_s(unit(play(model, s, keys='wait_limit = "2 h"'))) for s in range(8)]
    assert agrees(waits, erlang_c_wait(rate, 1.0, servers))


@pytest.mark.parametrize(
    ("run", "scv"),
    [('"1 s"', 0.0), ('{ median = "800 ms", p95 = "2500 ms" }', None)],
    ids=["deterministic", "log-normal"],
)
def test_pollaczek_khinchine_gives_the_wait_of_one_server(play, run, scv):
    median, p95 = 0.8, 2.5
    sigma = math.log(p95 / median) / 1.6448536
    run_s = 1.0 if scv is not None else median * math.exp(sigma**2 / 2)
    spread = 0.0 if scv is not None else math.exp(sigma**2) - 1
    rate = 0.6
    model = requests(f"{rate} /s", run, "instance_limit = 1")
    waits = [mean_wait_s(unit(play(model, s, keys='wait_limit = "6 h"'))) for s in range(8)]
    rho = rate * run_s
    assert agrees(waits, rho * run_s * (1 + spread) / (2 * (1 - rho)))


def test_calls_in_flight_without_limits_are_poisson(play):
    # M/G/infinity: the number in flight is Poisson with mean rate x run, whatever the run's shape.
    model = requests("8 /s", '{ median = "800 ms", p95 = "2500 ms" }', surges="")
    u = unit(play(model.replace('rate = "8 /s"', 'rate = "0.8 /s"')))
    sigma = math.log(2.5 / 0.8) / 1.6448536
    load = 0.8 * 0.8 * math.exp(sigma**2 / 2)
    assert u.concurrency.mean == pytest.approx(load, rel=0.005)
    tail = 1 - sum(math.exp(-load) * load**k / math.factorial(k) for k in range(u.concurrency.p99))
    assert tail > 0.01 > tail - math.exp(-load) * load**u.concurrency.p99 / math.factorial(u.concurrency.p99)


def test_cold_start_share_of_one_poisson_source(play):
    # Runs take no time: a call finds the instance if the gap before it is at most the keep-alive.
    model = requests("30 /h", '"0 ms"', surges="")
    shares = []
    for seed in range(8):
        u = unit(play(model, seed, keys='keep_alive = "2 min"'))
        shares.append(u.cold_starts / u.started)
    assert agrees(shares, math.exp(-30 / 3600 * 120))


def test_closed_loop_clients_follow_the_machine_repairman_formula(play):
    # N clients think, then ask c instances: a finite-source queue (Gross and Harris, section 2.7).
    clients, servers, think, run = 12, 3, 4.0, 1.0
    weights = [1.0]
    for n in range(1, clients + 1):
        weights.append(weights[-1] * (clients - n + 1) / think / (min(n, servers) / run))
    busy = sum(w * min(n, servers) for n, w in enumerate(weights)) / sum(weights)
    model = requests("1 /s", '{ mean = "1 s", shape = "exponential" }', f"instance_limit = {servers}", surges="")
    model = model.replace('rate = "1 /s"', f'clients = {clients}\nthink = {{ mean = "4 s", shape = "exponential" }}')
    u = unit(play(model, keys='wait_limit = "1 h"'))
    assert u.attempts["succeeded"] / (31 * DAY) == pytest.approx(busy / run, rel=0.003)
    assert u.attempts["throttled"] == 0


def test_a_topic_thins_its_events_independently(play):
    model = """
[functions.f]
memory = "128 MB"
run = "1 ms"
[functions.g]
memory = "128 MB"
run = "1 ms"
[topics.t]
[demand.d]
into = "topics.t"
monthly = 400_000
[[triggers]]
from = "topics.t"
to = "f"
share = 0.3
[[triggers]]
from = "topics.t"
to = "g"
"""
    plan = play(model)
    n = unit(plan, "g").events["in"]
    share = unit(plan, "f").events["in"] / n
    assert abs(share - 0.3) < 4 * math.sqrt(0.3 * 0.7 / n)


@pytest.mark.parametrize(("batch", "wait_s", "kind"), [(10, 5, "queues"), (4, 60, "queues"), (25, 20, "streams")])
def test_batch_counts_follow_the_renewal_argument(play, batch, wait_s, kind):
    """A batch begins with an arrival and fills until it is full or its first event has waited: a renewal process.

    With Poisson arrivals of rate a and wait W its mean size is 1 + E[min(B - 1, N)], N ~ Poisson(a W) (Wald's equation,
    Ross, "Stochastic Processes", 3.3), so that many fewer batches than events are handed over.
    """
    rate = 1.0
    model = f"""
[functions.f]
memory = "512 MB"
cold_start = "0 ms"
run = "1 ms"
[{kind}.q]
[demand.d]
into = "{kind}.q"
rate = "{rate} /s"
{FIRST_DAY}
[[triggers]]
from = "{kind}.q"
to = "f"
batch = {batch}
batch_wait = "{wait_s} s"
"""
    filled = sum(
        min(batch - 1, n) * math.exp(-rate * wait_s) * (rate * wait_s) ** n / math.factorial(n) for n in range(150)
    )
    sizes = [u.events["in"] / u.calls for u in (unit(play(model, seed)) for seed in range(8))]
    assert agrees(sizes, 1 + filled)
