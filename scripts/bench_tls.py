#!/usr/bin/env python3
"""Measures what TLS costs against a bare rustls acceptor and bare rustls relays. Appends its tables to the benchmarks. All of them run already
(scripts/bench.sh)."""

import argparse
import os
import re
import statistics
import subprocess
import time

from api import caller

# Where Merismos and what it is held against listen.
TERMINATED, AGAIN, MANY, ACCEPTOR, RELAY, PLAIN_RELAY, TWO = 17631, 17632, 17633, 17634, 17635, 17636, 17637

parser = argparse.ArgumentParser()
for name in ("rounds", "seconds", "pid", "acceptor", "relay", "decrypting", "encrypting", "certificates"):
    parser.add_argument(f"--{name}", type=int, required=True)
for name in ("api", "token-file", "lab", "document", "write"):
    parser.add_argument(f"--{name}", required=True)
options = parser.parse_args()
call = caller(options.api, options.token_file)


def cpu_seconds(pids):
    tasks = [(pid, task) for pid in pids for task in os.listdir(f"/proc/{pid}/task")]
    return sum(int(open(f"/proc/{pid}/task/{task}/schedstat").read().split()[0]) for pid, task in tasks) / 1e9


def counted(pids, command, pattern):
    """CPU microseconds of the processes for each thing that the command did."""
    before = cpu_seconds(pids)
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    if re.search(r"Non-2xx.*|Socket errors: connect [1-9].*", text):
        raise SystemExit(text)
    return (cpu_seconds(pids) - before) * 1e6 / int(re.search(pattern, text).group(1))


def shake(port, pids, *more):
    command = [options.lab, "shake", "--to", f"127.0.0.1:{port}", "--seconds", str(options.seconds), *more]
    return counted(pids, command, r"(\d+) handshakes")


def ask(port, pids, size):
    connections = 8 if size >= 1 << 20 else 64
    command = ["wrk", "-t1", f"-c{connections}", f"-d{options.seconds}s", f"https://127.0.0.1:{port}/bytes/{size}"]
    return counted(pids, command, r"(\d+) requests in")


ours, two = [options.pid], [options.decrypting, options.encrypting]
many = ("--names", str(options.certificates))
WAYS = {
    # what: how it is done here, how it is done by what it is held against, and the most that is wanted
    "a whole handshake": (lambda: shake(TERMINATED, ours), lambda: shake(ACCEPTOR, [options.acceptor]), 1.15),
    "a handshake that takes a session up": (
        lambda: shake(TERMINATED, ours, "--resume"),
        lambda: shake(ACCEPTOR, [options.acceptor], "--resume"),
        1.2,
    ),
    "13 B": (lambda: ask(TERMINATED, ours, 13), lambda: ask(RELAY, [options.relay], 13), 1.25),
    "64 KiB": (lambda: ask(TERMINATED, ours, 1 << 16), lambda: ask(RELAY, [options.relay], 1 << 16), 1.05),
    "1 MiB": (lambda: ask(TERMINATED, ours, 1 << 20), lambda: ask(RELAY, [options.relay], 1 << 20), 1.05),
    "13 B, encrypted again": (lambda: ask(AGAIN, ours, 13), lambda: ask(TWO, two, 13), 1.15),
    "64 KiB, encrypted again": (lambda: ask(AGAIN, ours, 1 << 16), lambda: ask(TWO, two, 1 << 16), 1.15),
    "1 MiB, encrypted again": (lambda: ask(AGAIN, ours, 1 << 20), lambda: ask(TWO, two, 1 << 20), 1.15),
}
def resident():
    return int(re.search(r"VmRSS:\s+(\d+)", open(f"/proc/{options.pid}/status").read()).group(1))


HELD = 5_000
time.sleep(3)
before = resident()
held = subprocess.Popen(
    [options.lab, "shake", "--to", f"127.0.0.1:{TERMINATED}", "--hold", str(HELD)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
)
if held.stdout.readline() != b"held\n":
    raise SystemExit("clients could not be held")
time.sleep(3)
idle = (resident() - before) / HELD
held.stdin.close()
held.wait()

runs = {what: ([], []) for what in WAYS}
for number in range(options.rounds):
    for what, (here, there, _) in WAYS.items():
        runs[what][0].append(here())
        runs[what][1].append(there())
    print(f"round {number + 1}", flush=True)
frontend = next(it for it in call("GET", "/status")["frontends"] if it["name"] == "terminated")
if frontend["resumed"] == 0:
    raise SystemExit("no session was taken up again")
# The same with many certificates: before and after the change, for their files are followed too.
text = open(options.document).read()
going = {"accept": ["unverified-servers:pools.again.tls"]}
call("POST", "/apply", {"format": "toml", "text": text, **going})
what = f"a whole handshake, one name of {options.certificates}, against one of one"
WAYS[what], runs[what] = (None, None, ""), ([], [])
for number in range(options.rounds):
    runs[what][0].append(shake(MANY, ours, *many))
    runs[what][1].append(shake(TERMINATED, ours))
rows = []
for what, (_, _, wanted) in WAYS.items():
    here, there = runs[what]
    ratio = statistics.median(a / b for a, b in zip(here, there))
    rows.append(f"| {what} | {statistics.median(here):.1f} | {statistics.median(there):.1f} | {ratio:.2f} | {wanted} |")


with open(options.write, "a") as file:
    file.write(
        f"""
TLS (1.3, an ECDSA certificate; {options.rounds} interleaved rounds of {options.seconds} s, CPU against a bare rustls acceptor, a bare rustls relay and, where traffic is encrypted
again, two relays of which one decrypts and one encrypts; median of paired rounds; 64 keep-alive connections, 8 for 1 MiB):

| work | CPU µs | CPU µs of what it is held against | ratio | wanted at most |
|---|---:|---:|---:|---:|
"""
        + "\n".join(rows)
        + f"""

An idle client that speaks TLS holds {idle:.1f} KiB of the service's memory (resident, {HELD} clients after a request each; wanted are at most 12).
"""
    )
