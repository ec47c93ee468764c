#!/usr/bin/env python3
"""Runs wrk against a server directly, through the bare relay and through Merismos, in turn, and writes the table."""

import argparse
import datetime
import os
import platform
import re
import statistics
import subprocess

SIZES = [(13, "13 B"), (65536, "64 KiB")]
TICK = os.sysconf("SC_CLK_TCK")


def cpu_seconds(pid):
    fields = open(f"/proc/{pid}/stat").read().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / TICK


def resident_mib(pid):
    return int(open(f"/proc/{pid}/statm").read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def milliseconds(text):
    number, unit = re.fullmatch(r"([\d.]+)(us|ms|s)", text).groups()
    return float(number) * {"us": 0.001, "ms": 1, "s": 1000}[unit]


def measure(address, size, options, pid):
    before = cpu_seconds(pid) if pid else 0
    command = ["wrk", "-t1", f"-c{options.connections}", f"-d{options.seconds}s", "--latency", f"http://{address}/bytes/{size}"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    cpu = cpu_seconds(pid) - before if pid else 0
    requests = int(re.search(r"(\d+) requests in", text).group(1))
    errors = re.search(r"Socket errors.*|Non-2xx.*", text)
    if errors:
        raise SystemExit(f"{address}: {errors.group(0)}")
    return {
        "rate": float(re.search(r"Requests/sec:\s+([\d.]+)", text).group(1)),
        "p50": milliseconds(re.search(r"^\s+50%\s+(\S+)", text, re.M).group(1)),
        "p99": milliseconds(re.search(r"^\s+99%\s+(\S+)", text, re.M).group(1)),
        "cpu": cpu * 1e6 / requests,
        "memory": resident_mib(pid) if pid else 0,
    }


def main():
    parser = argparse.ArgumentParser()
    for name in ("rounds", "seconds", "connections"):
        parser.add_argument(f"--{name}", type=int, required=True)
    parser.add_argument("--server", required=True)
    parser.add_argument("--relay", nargs=2, required=True)
    parser.add_argument("--merismos", nargs=2, required=True)
    parser.add_argument("--instructions", nargs=2, type=int, required=True)
    parser.add_argument("--write", required=True)
    options = parser.parse_args()
    ways = [
        ("direct", options.server, None),
        ("bare relay", options.relay[0], int(options.relay[1])),
        ("Merismos", options.merismos[0], int(options.merismos[1])),
    ]
    runs = {(way, size): [] for way, _, _ in ways for size, _ in SIZES}
    for number in range(options.rounds):
        for size, words in SIZES:
            for way, address, pid in ways:
                runs[way, size].append(measure(address, size, options, pid))
                print(f"round {number + 1}: {way}, {words}: {runs[way, size][-1]['rate']:.0f}/s", flush=True)

    def median(way, size, key):
        return statistics.median(run[key] for run in runs[way, size])

    model = next((line.split(":")[1].strip() for line in open("/proc/cpuinfo") if line.startswith("model name")), "unknown")
    lines = [
        "# Benchmarks",
        "",
        "Written by `make bench`. Times and rates swing by factors on shared machines: what holds is the ratio within one",
        "run, and the count of instructions, which repeats to a tenth of a percent.",
        "",
        f"- {datetime.date.today().isoformat()}, {os.cpu_count()} cores, {model}, Linux {platform.release()}",
        f"- {options.rounds} interleaved rounds of {options.seconds} s each, {options.connections} keep-alive connections (wrk, one thread), medians",
        "- load generator, stand-in server and what is measured share the same cores",
        "",
        "| body | way | requests/s | p50 ms | p99 ms | CPU µs a request | CPU against the relay (median of paired rounds) | resident MiB |",
        "|---|---|---:|---:|---:|---:|---:|---:|",
    ]
    for size, words in SIZES:
        for way, _, pid in ways:
            ratio = ""
            if way == "Merismos":
                pairs = zip(runs[way, size], runs["bare relay", size])
                ratio = f"{statistics.median(ours['cpu'] / floor['cpu'] for ours, floor in pairs):.2f}"
            cells = [
                words,
                way,
                f"{median(way, size, 'rate'):.0f}",
                f"{median(way, size, 'p50'):.2f}",
                f"{median(way, size, 'p99'):.2f}",
                f"{median(way, size, 'cpu'):.1f}" if pid else "-",
                ratio or "-",
                f"{median(way, size, 'memory'):.1f}" if pid else "-",
            ]
            lines.append("| " + " | ".join(cells) + " |")
    relay, merismos = options.instructions
    lines += [
        "",
        "User-space instructions a request (13 B, one worker, one connection, one request after the other; callgrind,",
        "the difference of two run lengths divided by the difference in requests):",
        "",
        "| way | instructions a request | against the relay |",
        "|---|---:|---:|",
        f"| bare relay | {relay} | 1.00 |",
        f"| Merismos | {merismos} | {merismos / relay:.2f} |",
        "",
    ]
    with open(options.write, "w") as file:
        file.write("\n".join(lines))
    print(f"written: {options.write}")


main()
