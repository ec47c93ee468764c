#!/usr/bin/env python3
"""Measures what changes cost: the throughput while revisions are deployed one after the other, and a configuration of ten
thousand servers. Appends its tables to the benchmarks."""

import argparse
import os
import re
import socket
import statistics
import subprocess
import threading
import time

from api import caller

parser = argparse.ArgumentParser()
parser.add_argument("--rounds", type=int, required=True)
parser.add_argument("--seconds", type=int, required=True)
parser.add_argument("--connections", type=int, required=True)
parser.add_argument("--api", required=True)
parser.add_argument("--token-file", required=True)
parser.add_argument("--frontend", required=True)
parser.add_argument("--pid", type=int, required=True)
parser.add_argument("--write", required=True)
options = parser.parse_args()
call = caller(options.api, options.token_file)


def throughput():
    command = ["wrk", "-t1", f"-c{options.connections}", f"-d{options.seconds}s", "--latency", f"http://{options.frontend}/bytes/13"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    errors = re.search(r"Socket errors.*|Non-2xx.*", text)
    if errors:
        raise SystemExit(f"a request failed: {errors.group(0)}")
    return float(re.search(r"Requests/sec:\s+([\d.]+)", text).group(1))


def resident_mib(pid):
    return int(open(f"/proc/{pid}/statm").read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


# ---- a deploy every 40 ms, one hundred in four seconds -------------------------------------------------------------

runs, ratios, rates = [], [], []
weight = 1
for number in range(options.rounds):
    pair = {}
    for deploying in (False, True):
        over = threading.Event()

        def deploy():
            global weight
            while not over.is_set():
                began = time.monotonic()
                weight = weight % 1000 + 1
                edit = {"do": "change", "object": "pools.quay.servers.gull", "keys": {"weight": weight}}
                review = call("POST", "/changes", {"edits": [edit], "note": "a benchmark"})
                if review["made"]:
                    runs.append(review["took"]["run_us"])
                over.wait(max(0, 0.04 - (time.monotonic() - began)))

        thread = threading.Thread(target=deploy)
        if deploying:
            thread.start()
        pair[deploying] = throughput()
        over.set()
        if deploying:
            thread.join()
    ratios.append(pair[True] / pair[False])
    rates.append(pair[False])
    print(f"round {number + 1}: {pair[False]:.0f}/s without, {pair[True]:.0f}/s with deploys", flush=True)

# ---- ten thousand servers ------------------------------------------------------------------------------------------

listener = socket.socket()
listener.bind(("0.0.0.0", 0))
listener.listen(4096)
port = listener.getsockname()[1]


def let_go():
    while True:
        try:
            listener.accept()[0].close()
        except OSError:
            return


threading.Thread(target=let_go, daemon=True).start()
lines = ['format = 3', '[checks.open]', 'kind = "tcp"', 'interval = "30s"', 'timeout = "5s"']
for pool in range(1000):
    lines += [f"[pools.p{pool}]", 'check = "open"']
    for server in range(10):
        address = f"127.{10 + pool // 250}.{pool % 250 + 1}.{server + 1}:{port}"
        lines.append(f'servers.s{server} = {{ address = "{address}", weight = 2 }}')
    if pool % 5 == 0:
        lines += [f"[frontends.f{pool}]", 'protocol = "http"', f'listen = "127.0.9.1:{42000 + pool // 5}"', f'pool = "p{pool}"']
text = "\n".join(lines)
first = call("POST", "/apply", {"text": text, "format": "toml"})["took"]
takes = []
for weight in range(3, 13):
    changed = text.replace("weight = 2", f"weight = {weight}", 1)
    takes.append(call("POST", "/apply", {"text": changed, "format": "toml", "note": "a benchmark"})["took"])
    edit = {"do": "change", "object": "pools.p500.servers.s5", "keys": {"weight": weight}}
    call("POST", "/changes", {"edits": [edit], "preview": True, "quick": True})
while True:
    status = call("GET", "/status?short=true")
    if sum(pool["eligible"] for pool in status["pools"]) == 10000:
        break
    time.sleep(0.5)
memory = resident_mib(options.pid)
listener.close()


def row(words, took):
    ms = [took[key] / 1000 for key in ("check_us", "compare_us", "try_us", "commit_us", "run_us")]
    return "| " + " | ".join([words] + [f"{it:.1f}" for it in ms] + [f"{sum(ms):.1f}"]) + " |"


median = {key: statistics.median(took[key] for took in takes) for key in takes[0]}
with open(options.write, "a") as file:
    file.write(
        f"""
Deploys under load (13 B, {options.connections} keep-alive connections, a deploy every 40 ms, {options.rounds} paired runs of {options.seconds} s):

| deploys | failed requests | throughput with deploys against without (median of pairs) | from commit to every worker, median | slowest |
|---:|---:|---:|---:|---:|
| {len(runs)} | 0 | {statistics.median(ratios):.2f} | {statistics.median(runs) / 1000:.2f} ms | {max(runs) / 1000:.1f} ms |

10,000 servers in 1,000 pools with 200 frontends, all probed; the whole document (TOML, {len(text) // 1024} KiB) is applied. Milliseconds:

| change | read and checked | compared | tried | committed | commit to every worker | whole |
|---|---:|---:|---:|---:|---:|---:|
{row("from an empty document", first)}
{row("one weight (median of ten)", median)}

Resident memory of the service afterwards, all servers up: {memory:.0f} MiB.
"""
    )
print(f"appended: {options.write}")
