"""Plans and a model from which tests of choices and crossings make their estates."""

from __future__ import annotations

CARD = """
schema = "echotally-rates/1"
[card]
name = "c"
currency = "EUR"
"""
RUNS = """
[plans.{name}]
bills = "runs"
memory = {{ choices = ["256 MB", "512 MB"] }}
vcpu_per_gb = 1
[plans.{name}.price]
calls = {{ unit = "{calls}" }}
gb_seconds = {{ unit = "{seconds}" }}
[plans.{name}.allowance]
calls = {free}
"""
FIXED = """
[plans.{name}]
bills = "reserved"
memory = {{ choices = ["256 MB", "512 MB"] }}
instances = 1
instance_memory = "64 GB"
instance_vcpu = 64
[plans.{name}.price]
reserved_hours = {{ unit = "{hour}" }}
calls = {{ unit = "{calls}" }}
"""
#: A function behind a queue; how much comes into it is said after that.
QUEUED = """
[functions.f]
memory = "512 MB"
run = "1 s"
cpu_share = 0
cold_start = "0 ms"
[queues.q]
[demand.d]
into = "queues.q"
"""
MODEL = f"""{QUEUED}monthly = 1_000
spread = "even"
[[triggers]]
from = "queues.q"
to = "f"
"""
