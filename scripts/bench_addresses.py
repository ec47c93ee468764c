#!/usr/bin/env python3
"""Measures for how long clients stand still while an address moves between the two nodes of demo/pair.sh, which is up: killed nodes, pulled cables, moves by
hand, nodes that stop. Appends its table to the benchmarks. It needs root."""

import argparse
import json
import socket
import statistics
import subprocess
import sys
import time

parser = argparse.ArgumentParser()
parser.add_argument("--rounds", type=int, default=20)
parser.add_argument("--pair", default="demo/pair.sh", help="the script that made the pair")
parser.add_argument("--client", type=float, help="be the client for so many seconds")
parser.add_argument("--note", default="", help="a sentence below the table")
parser.add_argument("--write", help="the file to append to")
options = parser.parse_args()

ADDRESS = ("192.0.2.10", 80)
REQUEST = b"GET / HTTP/1.1\r\nHost: booking.skerry.example\r\nConnection: close\r\n\r\n"
# After how long a client gives an attempt up and tries again.
CLIENT_PATIENCE = 0.02
# How long anything may take before the measurement has failed.
PATIENCE = 60


def answers():
    try:
        with socket.create_connection(ADDRESS, CLIENT_PATIENCE) as connection:
            connection.sendall(REQUEST)
            return connection.recv(64).startswith(b"HTTP/1.1 200")
    except OSError:
        return False


def be_client(seconds):
    end, last, gap, answered, failed = time.monotonic() + seconds, None, 0.0, 0, 0
    while time.monotonic() < end:
        if answers():
            now = time.monotonic()
            gap = max(gap, now - last if last else 0.0)
            last, answered = now, answered + 1
        else:
            failed += 1
        time.sleep(0.002)
    print(json.dumps({"gap_ms": gap * 1000, "answered": answered, "failed": failed}))


def pair(*arguments):
    done = subprocess.run([options.pair, *arguments], capture_output=True, text=True)
    if done.returncode > 1:
        raise SystemExit(f"{arguments}: {done.stdout}{done.stderr}")
    return done.stdout


def holders(node):
    return json.loads(pair("at", node, "merismos", "address", "status", "--json"))["addresses"][0]["holders"]


def until_held(node, by):
    end = time.monotonic() + PATIENCE
    while holders(node) != [by]:
        if time.monotonic() > end:
            raise SystemExit(f"{by} does not hold the address")
        time.sleep(0.1)


def seen_while(act, seconds):
    """What a client saw while something was done to the pair."""
    client = subprocess.Popen(
        [options.pair, "at", "client", sys.executable, __file__, "--client", str(seconds)], stdout=subprocess.PIPE, text=True
    )
    time.sleep(0.7)
    act()
    said, _ = client.communicate(timeout=PATIENCE)
    return json.loads(said)


def rounds(act, undo, seconds=2.5):
    seen = []
    for _ in range(options.rounds):
        until_held("south", "north")
        seen.append(seen_while(act, seconds))
        undo()
    gaps, failed = [one["gap_ms"] for one in seen], [one["failed"] for one in seen]
    return gaps, failed


def row(what, wanted, measured):
    gaps, failed = measured
    line = f"| {what} | {statistics.median(gaps):.0f} ms | {max(gaps):.0f} ms | {statistics.median(failed):.0f} | {wanted} |"
    print(line, file=sys.stderr)
    return line


def main():
    lines = ["", "## Addresses that move", ""]
    lines += [f"For how long a client stood still that asks every 2 ms on a new connection (advertisements every 100 ms; {options.rounds} rounds each):", ""]
    lines += ["| what happened | median | longest | failed attempts | wanted |", "|---|---:|---:|---:|---|"]
    lines.append(row("the holder is killed (-9)", "400 ms", rounds(lambda: pair("kill", "north"), lambda: pair("start", "north"))))
    lines.append(row("its cable is pulled", "400 ms", rounds(lambda: pair("cable", "north", "out"), lambda: pair("cable", "north", "in"))))
    by_hand = lambda: pair("at", "south", "merismos", "address", "move", "quay", "--to", "south")
    back = lambda: pair("at", "south", "merismos", "address", "return", "quay")
    lines.append(row("it is moved by hand", "100 ms", rounds(by_hand, back)))
    lines.append(row("the holder stops in order", "100 ms", rounds(lambda: pair("stop", "north"), lambda: pair("start", "north"))))
    lines += ["", options.note] if options.note else []
    text = "\n".join(lines) + "\n"
    if options.write:
        with open(options.write, "a", encoding="utf-8") as file:
            file.write(text)
    print(text)


if options.client:
    be_client(options.client)
else:
    main()
