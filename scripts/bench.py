#!/usr/bin/env python3
"""Asks a server directly, through the bare relay and through Merismos, in turn, and writes the table."""

import argparse
import datetime
import json
import math
import os
import platform
import re
import socket
import statistics
import subprocess
import time

CONNECTIONS = 64


class Case:
    """One kind of work: what is asked for, how, and by which ways it goes."""

    def __init__(self, words, path, ways, connections=CONNECTIONS, close=False, limit=None, by="wrk", floor="bare relay"):
        self.words, self.path, self.ways = words, path, ways
        self.connections, self.close, self.limit = connections, close, limit
        self.by, self.floor = by, floor


def cases(many):
    http = ["direct", "small relay", "bare relay", "Merismos http"]
    bulk = ["direct", "small relay", "bare relay", "splice relay", "Merismos http"]
    tcp = ["small relay", "bare relay", "splice relay", "Merismos tcp"]
    return [
        Case("HTTP, 13 B", "/bytes/13", http, limit=1.3),
        Case(f"HTTP, 13 B, {many} connections", "/bytes/13", http, connections=many, limit=1.3),
        Case("HTTP, 64 KiB", "/bytes/65536", http, limit=0.7),
        Case("HTTP, 1 MiB", "/bytes/1048576", bulk, connections=16, limit=0.4),
        Case("HTTP, 13 B, a connection a request", "/bytes/13", http, close=True, limit=0.65),
        Case("HTTP/2 from clients, 13 B, 4 connections of 100 streams", "/bytes/13", ["Merismos http"], connections=4, limit=2.5, by="h2load"),
        Case("TCP, small exchanges", "/bytes/13", tcp, limit=1.05),
        Case("TCP, 1 MiB", "/bytes/1048576", tcp, connections=16, limit=0.3),
        Case("UDP, 64 B both ways", "", ["UDP relay", "Merismos udp"], limit=1.1, by="datagrams", floor="UDP relay"),
    ]


def cpu_seconds(pid):
    # In nanoseconds; what /proc/PID/stat says is rounded to ticks.
    tasks = os.listdir(f"/proc/{pid}/task")
    return sum(int(open(f"/proc/{pid}/task/{task}/schedstat").read().split()[0]) for task in tasks) / 1e9


def resident_mib(pid):
    return int(open(f"/proc/{pid}/statm").read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def milliseconds(text):
    number, unit = re.fullmatch(r"([\d.]+)(us|ms|s)", text).groups()
    return float(number) * {"us": 0.001, "ms": 1, "s": 1000}[unit]


def by_h2load(case, address, seconds):
    """Many requests at once on each connection, for as long as wrk would run."""
    command = ["h2load", "-D", str(seconds), "-c", str(case.connections), "-m", "100", f"http://{address}{case.path}"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    done, failed = (int(re.search(rf"(\d+) {word}", text).group(1)) for word in ("succeeded", "failed"))
    if failed or not done:
        raise SystemExit(f"{address}: {text}")
    mean = milliseconds(re.search(r"time for request:.*", text).group(0).split()[5])
    return {"rate": done / seconds, "p50": mean, "p99": float("nan")}, done


def by_datagrams(case, address, seconds, lab):
    command = [lab, "ask", "--to", address, "--seconds", str(seconds)]
    counts = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    if counts["answered"] < 0.99 * counts["sent"]:
        raise SystemExit(f"{address}: datagrams were lost: {counts}")
    return {"rate": counts["answered"] / seconds, "p50": float("nan"), "p99": float("nan")}, counts["answered"]


def measure(case, address, pid, seconds, lab):
    before = cpu_seconds(pid) if pid else 0
    if case.by != "wrk":
        run, requests = by_h2load(case, address, seconds) if case.by == "h2load" else by_datagrams(case, address, seconds, lab)
        return {**run, "cpu": (cpu_seconds(pid) - before) * 1e6 / requests}
    command = ["wrk", "-t1", f"-c{case.connections}", f"-d{seconds}s", "--latency"]
    command += ["-H", "Connection: close"] if case.close else []
    text = subprocess.run([*command, f"http://{address}{case.path}"], capture_output=True, text=True, check=True).stdout
    cpu = cpu_seconds(pid) - before if pid else 0
    requests = int(re.search(r"(\d+) requests in", text).group(1))
    errors = re.search(r"Non-2xx.*|Socket errors: connect [1-9].*", text)
    if errors:
        raise SystemExit(f"{address}: {errors.group(0)}")
    return {
        "rate": float(re.search(r"Requests/sec:\s+([\d.]+)", text).group(1)),
        "p50": milliseconds(re.search(r"^\s+50%\s+(\S+)", text, re.M).group(1)),
        "p99": milliseconds(re.search(r"^\s+99%\s+(\S+)", text, re.M).group(1)),
        "cpu": cpu * 1e6 / requests,
    }


def figure(number):
    return "-" if math.isnan(number) else f"{number:.2f}"


def idle_clients(address, pid, count):
    """Resident KiB that so many resting clients cost each, and what of it is left ten seconds after they went."""
    before = resident_mib(pid)
    request = b"GET /bytes/13 HTTP/1.1\r\nHost: bench.skerry.example\r\n\r\n"
    host, port = address.rsplit(":", 1)
    clients = []
    for _ in range(count):
        client = socket.create_connection((host, int(port)), timeout=60)
        client.sendall(request)
        client.recv(4096)
        clients.append(client)
    time.sleep(3)
    during = resident_mib(pid)
    for client in clients:
        client.close()
    time.sleep(10)
    after = resident_mib(pid)
    return (during - before) * 1024 / count, (after - before) * 1024 / count


def main():
    parser = argparse.ArgumentParser()
    for name in ("rounds", "seconds", "many", "idle"):
        parser.add_argument(f"--{name}", type=int, required=True)
    parser.add_argument("--way", nargs=3, action="append", required=True, metavar=("NAME", "ADDRESS", "PID"))
    parser.add_argument("--instructions", nargs=3, type=int, required=True)
    parser.add_argument("--pick", nargs=3, action="append", default=[], metavar=("ALGORITHM", "FEW", "MANY"))
    parser.add_argument("--lab", required=True)
    parser.add_argument("--write", required=True)
    options = parser.parse_args()
    ways = {name: (address, None if pid == "-" else int(pid)) for name, address, pid in options.way}
    clients, left = idle_clients(*ways["Merismos http"], options.idle)
    all_cases = cases(options.many)
    runs = {}
    for number in range(options.rounds):
        for case in all_cases:
            for way in case.ways:
                run = measure(case, *ways[way], options.seconds, options.lab)
                runs.setdefault((case.words, way), []).append(run)
                print(f"round {number + 1}: {case.words}, {way}: {run['rate']:.0f}/s", flush=True)

    def median(case, way, key):
        return statistics.median(run[key] for run in runs[case.words, way])

    def against(case, way, floor):
        # What no relay can do (it speaks no HTTP/2) is held against what it does instead: a request of HTTP/1.1.
        of = case.words if floor in case.ways else all_cases[0].words
        pairs = zip(runs[case.words, way], runs[of, floor])
        return statistics.median(ours["cpu"] / theirs["cpu"] for ours, theirs in pairs)

    model = next((line.split(":")[1].strip() for line in open("/proc/cpuinfo") if line.startswith("model name")), "unknown")
    lines = [
        "# Benchmarks",
        "",
        "Written by `make bench`. Times and rates swing by factors on shared machines: what holds is the ratio within one",
        "run, and the count of instructions, which repeats to a tenth of a percent.",
        "",
        f"- {datetime.date.today().isoformat()}, {os.cpu_count()} cores, {model}, Linux {platform.release()}",
        f"- {options.rounds} interleaved rounds of {options.seconds} s each, {CONNECTIONS} connections (16 for 1 MiB; wrk, one thread), medians",
        "- load generator, stand-in server and what is measured share the same cores",
        "- bare relay: copies through buffers of 64 KiB; small relay: through 8 KiB, as tokio's own copying does; splice relay: through pipes",
        "- HTTP/2: h2load, its mean for p50; UDP: 64 flows, 16 datagrams at a time, a datagram and its answer are one request",
        "",
        "| work | way | requests/s | p50 ms | p99 ms | CPU µs a request | CPU against the relay (median of paired rounds) | wanted at most |",
        "|---|---|---:|---:|---:|---:|---:|---:|",
    ]
    for case in all_cases:
        for way in case.ways:
            ours = way.startswith("Merismos")
            ratio = f"{against(case, way, case.floor):.2f}" if ways[way][1] and way != case.floor else "-"
            others = ["small relay", *(["splice relay"] if "MiB" in case.words else [])]
            if ours:
                also = [f"{against(case, way, it):.2f} of the {it}" for it in others if it in case.ways]
                ratio += f" ({', '.join(also)})" if also else ""
            cells = [
                case.words,
                way,
                f"{median(case, way, 'rate'):.0f}",
                figure(median(case, way, "p50")),
                figure(median(case, way, "p99")),
                f"{median(case, way, 'cpu'):.1f}" if ways[way][1] else "-",
                ratio,
                f"{case.limit}" if ours else "",
            ]
            lines.append("| " + " | ".join(cells) + " |")
    relay, http, tcp = options.instructions
    lines += [
        "",
        "User-space instructions a request (13 B, one worker, one connection, one request after the other; callgrind,",
        "the difference of two run lengths divided by the difference in requests):",
        "",
        "| way | instructions a request | against the relay | wanted at most |",
        "|---|---:|---:|---:|",
        f"| bare relay | {relay} | 1.00 | |",
        f"| Merismos http | {http} | {http / relay:.2f} | 2.0 |",
        f"| Merismos tcp | {tcp} | {tcp / relay:.2f} | 1.1 |",
        "",
        f"{options.idle} resting keep-alive clients: {clients:.1f} KiB resident memory each while they are there, {left:.1f} KiB each ten seconds",
        "after they left (wanted: at most 3).",
        "",
    ]
    lines += [
        "Instructions a pick, with what beginning and ending a request costs (weights 1, 2 and 3; callgrind, as above):",
        "",
        "| algorithm | 3 servers | 10,000 servers | ratio | wanted at most |",
        "|---|---:|---:|---:|---:|",
    ]
    for algorithm, few, many in options.pick:
        ratio = int(many) / int(few)
        lines.append(f"| {algorithm} | {few} | {many} | {ratio:.2f} | {4 if algorithm.startswith('least') else 2} |")
    lines.append("")
    with open(options.write, "w") as file:
        file.write("\n".join(lines))
    print(f"written: {options.write}")


main()
