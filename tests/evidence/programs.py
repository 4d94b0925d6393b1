"""Programs whose behaviour is known, for ``measure``: they sleep, burn CPU time, take memory, fork, start slowly, answer requests."""

from __future__ import annotations

import sys

PYTHON = [sys.executable, "-I", "-S", "-u", "-c"]

SLEEPS = """
import json, sys, time
for line in sys.stdin:
    events = json.loads(line)
    time.sleep(0.010 + 0.002 * (len(events) if isinstance(events, list) else 1))
    sys.stderr.write("b" * 20)
    print("a" * 50)
"""
BURNS = """
import sys, time
for line in sys.stdin:
    until = time.process_time() + 0.02
    while time.process_time() < until:
        pass
    time.sleep(0.01)
    print("x")
"""
STARTS_SLOWLY = """
import sys, time
time.sleep(0.3)
for line in sys.stdin:
    time.sleep(0.02)
    print("x")
"""
GROWS = """
x = bytearray(100 << 20)
for n in range(0, len(x), 4096):
    x[n] = 1
"""
TWO_THREADS = """
import hashlib, threading, time
data = b"x" * 4_000_000
def work():
    # By time, so that starting takes no share worth telling on a quick processor either.
    while time.thread_time() < 0.3:
        hashlib.sha256(data)
threads = [threading.Thread(target=work) for _ in range(2)]
for each in threads:
    each.start()
for each in threads:
    each.join()
"""
FORKS = """
import os, time
if os.fork() == 0:
    until = time.process_time() + 0.1
    while time.process_time() < until:
        pass
else:
    os.wait()
"""
PAYLOADS = """
import json, sys, time
for line in sys.stdin:
    time.sleep(0.01 + 0.02 * len(line) / 1e6)
    print(len(line))
"""
AT_ONCE = """
import concurrent.futures, sys, threading, time
lock = threading.Lock()
def answer(line):
    time.sleep(0.03)
    with lock:
        print("x")
with concurrent.futures.ThreadPoolExecutor(8) as pool:
    for line in sys.stdin:
        pool.submit(answer, line)
"""
LEAVES_A_CHILD = """
import subprocess
subprocess.Popen(["sleep", "{seconds}"], start_new_session=True)
"""
SERVER = """
import http.server, socketserver, sys, time
class Answers(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        # Long beside what answering takes of a slow processor.
        time.sleep(0.08)
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"x" * 500)
    do_POST = do_GET
    def log_message(self, *_):
        pass
kind = http.server.ThreadingHTTPServer if sys.argv[1] == "threads" else http.server.HTTPServer
kind.request_queue_size = 128
server = kind(("127.0.0.1", 0), Answers)
print(server.server_address[1], flush=True)
server.serve_forever()
"""
