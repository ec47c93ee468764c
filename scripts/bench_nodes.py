#!/usr/bin/env python3
"""Measures how fast nodes follow each other, how fast another one leads when that one is killed, and what many nodes cost their database.
Appends its table to the benchmarks. The database runs already (scripts/bench.sh)."""

import argparse
import json
import os
import socket
import statistics
import subprocess
import time

from api import caller

parser = argparse.ArgumentParser()
for name in ("rounds", "many", "database-pid", "port"):
    parser.add_argument(f"--{name}", type=int, required=True)
for name in ("database", "work", "merismosd", "write"):
    parser.add_argument(f"--{name}", required=True)
options = parser.parse_args()

DOCUMENT = """format = 3
[pools.quay]
note = "{note}"
servers.gull = {{ address = "127.0.0.1:1" }}
servers.tern = {{ address = "127.0.0.1:2" }}
"""
# How long anything may take before the measurement has failed.
PATIENCE = 60


class Node:
    def __init__(self, number):
        self.number = number
        self.state = os.path.join(options.work, f"node{number}")
        self.api = f"127.0.0.1:{options.port + number}"
        self.start()

    def start(self):
        os.makedirs(self.state, mode=0o700, exist_ok=True)
        flags = ["--node", f"n{self.number}", "--workers", "1", "--log", "error"]
        places = ["--state-folder", self.state, "--api-listen", self.api, "--database", options.database]
        self.process = subprocess.Popen([options.merismosd, *flags, *places])
        until(f"{self.api} answers", lambda: self.status() is not None)

    def status(self):
        try:
            return caller(self.api, os.path.join(self.state, "first-token"))("GET", "/status?short=true")
        except (OSError, ValueError, KeyError):
            return None


def until(what, is_so, every=0.005):
    end = time.monotonic() + PATIENCE
    while not is_so():
        if time.monotonic() > end:
            raise SystemExit(f"still not so: {what}")
        time.sleep(every)


def cpu_ticks(pid):
    fields = open(f"/proc/{pid}/stat").read().rsplit(")", 1)[1].split()
    return int(fields[11]) + int(fields[12])


def database_load(seconds):
    """The share of a core that the database takes."""
    before, begin = cpu_ticks(options.database_pid), time.monotonic()
    time.sleep(seconds)
    ticks = cpu_ticks(options.database_pid) - before
    return ticks / os.sysconf("SC_CLK_TCK") / (time.monotonic() - begin)


def percentile(values, share):
    return sorted(values)[min(len(values) - 1, int(len(values) * share))]


nodes = [Node(number) for number in range(3)]
try:
    calls = [caller(node.api, os.path.join(node.state, "first-token")) for node in nodes]

    def apply(note):
        body = {"text": DOCUMENT.format(note=note), "format": "toml", "note": "measured"}
        return calls[0]("POST", "/apply", body)["revision"]

    until("all know each other", lambda: all(node.status()["node"]["nodes"] == 3 for node in nodes))
    revisions, duties = [], []
    for round_ in range(options.rounds):
        number = apply(f"round {round_}")
        begin = time.monotonic()
        for node in nodes[1:]:
            until("it runs there", lambda: node.status()["revision"]["number"] >= number)
        revisions.append((time.monotonic() - begin) * 1e3)
        # Not in step with the looks.
        time.sleep(0.013 * (round_ % 29))
        duty = "withdrawn" if round_ % 2 == 0 else "in_service"
        calls[0]("POST", "/servers/quay/gull/duty", {"duty": duty, "reason": f"round {round_}", "at_once": True} if duty == "in_service" else {"duty": duty, "reason": f"round {round_}"})
        begin = time.monotonic()

        def follows(call):
            servers = call("GET", "/status?pool=quay")["pools"][0]["servers"]
            order = next(it for it in servers if it["server"] == "quay/gull")["duty"]
            return order is not None and order["reason"] == f"round {round_}"

        for call in calls[1:]:
            until("it holds there", lambda: follows(call))
        duties.append((time.monotonic() - begin) * 1e3)

    leads = []
    for _ in range(5):
        leader = next(node for node in nodes if node.status()["node"]["leads"])
        leader.process.kill()
        leader.process.wait()
        begin = time.monotonic()
        others = [node for node in nodes if node is not leader]
        until("another one leads", lambda: any(node.status()["node"]["leads"] for node in others), 0.02)
        leads.append(time.monotonic() - begin)
        leader.start()

    loads = {3: database_load(10)}
    nodes += [Node(number) for number in range(3, options.many)]
    until("all are known", lambda: nodes[0].status()["node"]["nodes"] == options.many, 0.1)
    time.sleep(5)
    loads[options.many] = database_load(20)
finally:
    for node in nodes:
        node.process.terminate()
    for node in nodes:
        node.process.wait()

with open(options.write, "a") as file:
    file.write("\n## Nodes\n\n| | measured |\n|---|---:|\n")
    for what, times in (("a revision", revisions), ("a duty", duties)):
        file.write(
            f"| {what} holds on all of 3 nodes after it was answered, median and 99th percentile of {len(times)} |"
            f" {statistics.median(times):.0f} ms, {percentile(times, 0.99):.0f} ms |\n"
        )
    file.write(f"| another node leads after that one was killed, median and slowest of {len(leads)} | {statistics.median(leads):.1f} s, {max(leads):.1f} s |\n")
    for count, load in loads.items():
        file.write(f"| CPU of the database with {count} nodes at rest | {load * 100:.1f} % of a core |\n")
