"""Asking, releases and floors against closed forms, each within the interval of independent replications."""

from __future__ import annotations

import math

from tests.conftest import unit
from tests.engine.test_queueing_theory import DAY, agrees, requests

SEEDS = range(1, 9)


def test_clients_whose_calls_ask_one_server_are_a_closed_network_of_two_stations(play):
    # Mean value analysis (Reiser and Lavenberg 1980): a delay of 80 s of thinking and 20 s of its own run, then one
    # exponential server of 16 s with room to wait, six customers.
    think, server, clients = 100.0, 16.0, 6
    queued = 0.0
    for n in range(1, clients + 1):
        wait = server * (1 + queued)
        rate = n / (think + wait)
        queued = rate * wait
    model = """
[functions.f]
memory = "512 MB"
timeout = "1 h"
cold_start = "0 s"
cpu_share = 0
run = { mean = "20 s", shape = "exponential" }
asks = [{ to = "endpoints.p" }]
[functions.g]
memory = "512 MB"
timeout = "1 h"
cold_start = "0 s"
cpu_share = 0
instance_limit = 1
run = { mean = "16 s", shape = "exponential" }
[endpoints.e]
[endpoints.p]
[demand.d]
into = "endpoints.e"
clients = 6
think = { mean = "80 s", shape = "exponential" }
[[triggers]]
from = "endpoints.e"
to = "f"
[[triggers]]
from = "endpoints.p"
to = "g"
"""
    months = [play(model, seed, keys='wait_limit = "1 h"') for seed in SEEDS]
    length = months[0].measured.month_ns / 1e9
    assert agrees([unit(m, "g").events["succeeded"] / length for m in months], rate)
    # Little's law at both: who asks is in flight for its own run and for all of the answer's time.
    assert agrees([unit(m, "f").concurrency.mean for m in months], rate * (20 + wait))
    # The server works all of its time but for waiting: utilization law.
    assert agrees([unit(m, "g").busy_ns / 1e9 / length for m in months], rate * server)


def test_cold_starts_after_releases_are_a_renewal_argument(play):
    # Poisson events a minute apart, runs of 1 ms, gone after a minute idle, a release every ten minutes. Of an interval T between
    # releases: the first event is cold; so is one at t whose last T_k = 60 s held no event but the interval did before:
    # (1 - e^-LT) + L e^-LK (T - K) - (e^-LK - e^-LT).
    rate, keep, between = 1 / 60, 60.0, 600.0
    kept, gone = math.exp(-rate * keep), math.exp(-rate * between)
    an_interval = (1 - gone) + rate * kept * (between - keep) - (kept - gone)
    model = requests("1 /min", '"1 ms"', 'releases = [{ cron = "*/10 * * * *" }]')
    months = [unit(play(model, seed, keys='keep_alive = "1 min"')) for seed in SEEDS]
    assert agrees([float(u.cold_starts) for u in months], an_interval * DAY / between)


def test_cold_starts_above_a_floor_by_the_clock_are_those_of_an_infinite_server_queue(play):
    # M/M/inf with a load of 3: instances above the floor go as soon as they are idle. While the floor is 4, an event starts one
    # with the chance of 4 or more in service; without a floor each does. The floor starts what is missing of it at 06:00.
    load, floor, rate = 3.0, 4, 0.3
    chance = [math.exp(-load) * load**n / math.factorial(n) for n in range(floor)]
    by_day = rate * DAY / 2 * (1 - sum(chance)) + sum((floor - n) * p for n, p in enumerate(chance))
    floors = 'instance_floors = [{ cron = "0 6 * * *", floor = 4 }, { cron = "0 18 * * *", floor = 0 }]'
    model = requests("0.3 /s", '{ mean = "10 s", shape = "exponential" }', floors)
    months = [unit(play(model, seed, keys='keep_alive = "0 s"')) for seed in SEEDS]
    # After the first day nothing comes: the floor starts four on each of 30 more.
    assert agrees([u.cold_starts - 30.0 * floor for u in months], rate * DAY / 2 + by_day)
    idle = sum((floor - n) * p for n, p in enumerate(chance)) * DAY / 2 + 30 * floor * DAY / 2
    assert agrees([u.idle_floor_ns / 1e9 for u in months], idle)
