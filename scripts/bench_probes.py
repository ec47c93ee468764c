#!/usr/bin/env python3
"""Measures what probing ten thousand servers every five seconds costs, against a bare loop that makes the same connections at
the same time, and how punctual the probes are. Appends its table to the benchmarks."""

import argparse
import os
import statistics
import subprocess
import time

from api import caller

parser = argparse.ArgumentParser()
parser.add_argument("--api", required=True)
parser.add_argument("--token-file", required=True)
parser.add_argument("--pid", type=int, required=True)
parser.add_argument("--port", type=int, required=True)
parser.add_argument("--lab", required=True)
parser.add_argument("--write", required=True)
parser.add_argument("--windows", type=int, default=5)
parser.add_argument("--seconds", type=int, default=15)
options = parser.parse_args()
call = caller(options.api, options.token_file)
SERVERS = 10_000


def cpu(pid):
    fields = open(f"/proc/{pid}/stat").read().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def document(check):
    lines = ["format = 3", "[checks.it]", *check]
    for number in range(SERVERS):
        if number % 100 == 0:
            lines += [f"[pools.p{number // 100}]", 'check = "it"']
        address = f"127.64.{number // 250}.{number % 250 + 1}:{options.port}"
        lines.append(f'servers.s{number} = {{ address = "{address}" }}')
    return "\n".join(lines)


def apply(check):
    call("POST", "/apply", {"text": document(check), "format": "toml", "accept": ["slow-timeout:checks.it.timeout"]})
    while sum(pool["eligible"] for pool in call("GET", "/status?short=true")["pools"]) < SERVERS:
        time.sleep(1)
    time.sleep(6)


def measure(windows, other=None):
    """CPU of the service, and of the other process, in parts of one core; and the part of late probes."""
    own, others = [], []
    before = call("GET", "/status?short=true")["node"]
    for _ in range(windows):
        at = time.monotonic()
        mine, theirs = cpu(options.pid), cpu(other) if other else 0
        time.sleep(options.seconds)
        took = time.monotonic() - at
        own.append((cpu(options.pid) - mine) / took)
        others.append(((cpu(other) - theirs) if other else 0) / took)
    after = call("GET", "/status?short=true")["node"]
    made = after["probes"] - before["probes"]
    late = after["late_probes"] - before["late_probes"]
    return statistics.median(own), statistics.median(others), made, late / max(made, 1)


rows = []
for words, kind, keep in [
    ("tcp, a connection a probe", ['kind = "tcp"'], []),
    ("http, kept connections", ['kind = "http"', 'path = "/health"', "keep_alive = true"], ["--keep"]),
]:
    apply(kind + ['interval = "1h"', 'timeout = "5s"'])
    rest, _, _, _ = measure(3)
    apply(kind + ['interval = "5s"', 'timeout = "4s"'])
    bare = subprocess.Popen([options.lab, "knock", "--servers", str(SERVERS), "--port", str(options.port), *keep])
    try:
        time.sleep(12)
        own, loop, made, late = measure(options.windows, bare.pid)
    finally:
        bare.terminate()
        bare.wait()
    print(f"{words}: service {own:.3f} (at rest {rest:.3f}), bare loop {loop:.3f}, {made} probes, {late:.2%} late", flush=True)
    rows.append(f"| {words} | {rest:.3f} | {own:.3f} | {loop:.3f} | {own - rest - loop:+.3f} | {made} | {late:.2%} |")

with open(options.write, "a") as file:
    file.write(
        f"""
10,000 servers probed every 5 s, beside a bare loop that makes the same connections in the same seconds (median of {options.windows} windows
of {options.seconds} s; parts of one core). At rest the same servers are probed once an hour. A probe is late that begins more than 5 ms after its time;
wanted are at most 0.1 of a core more than the bare loop, and 1 % late:

| check | service at rest | service probing | bare loop | probing costs more by | probes | late |
|---|---:|---:|---:|---:|---:|---:|
"""
        + "\n".join(rows)
        + "\n"
    )
print(f"appended: {options.write}")
