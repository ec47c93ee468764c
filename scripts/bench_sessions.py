#!/usr/bin/env python3
"""Measures what pins cost a request, how workers share a table of pins, and how fast drains are. Appends its tables to the
benchmarks. The service runs already, and has frontends on the ports that are named below (scripts/bench.sh)."""

import argparse
import http.client
import os
import re
import socket
import statistics
import subprocess
import threading
import time

from api import caller

PINS = 1_000_000
# The frontends, each before a pool of its own with the same server.
PLAIN, COOKIE, SESSION, ADDRESS = 17621, 17622, 17623, 17624

parser = argparse.ArgumentParser()
for name in ("rounds", "seconds", "pid"):
    parser.add_argument(f"--{name}", type=int, required=True)
for name in ("api", "token-file", "work", "looks", "merismos", "write"):
    parser.add_argument(f"--{name}", required=True)
options = parser.parse_args()
call = caller(options.api, options.token_file)


def cpu_seconds(pid):
    tasks = os.listdir(f"/proc/{pid}/task")
    return sum(int(open(f"/proc/{pid}/task/{task}/schedstat").read().split()[0]) for task in tasks) / 1e9


# ---- what pins cost a request ---------------------------------------------------------------------------------------

# Clients from a million addresses, each as a trusted proxy tells it. The same script makes the load of the frontend without pins.
def addresses(name, choose):
    path = os.path.join(options.work, name)
    with open(path, "w") as file:
        file.write(
            f"""
math.randomseed(os.time())
local count = -1
request = function()
  {choose}
  wrk.headers["X-Forwarded-For"] = string.format("100.%d.%d.%d", 64 + math.floor(n / 65536), math.floor(n / 256) % 256, n % 256)
  return wrk.format()
end
"""
        )
    return path


many = addresses("many.lua", f"local n = math.random(0, {PINS - 1})")
# The wrk of a later run begins anew, so what is left is filled by chance.
each = addresses("each.lua", "count = count + 1; local n = count")
one = http.client.HTTPConnection("127.0.0.1", COOKIE, timeout=10)
one.request("GET", "/bytes/13")
cookie = one.getresponse().getheader("set-cookie").split(";")[0]
WAYS = {
    # name: port, header or script, what it is held against, wanted at most
    "no pins, a cookie": (PLAIN, ["-H", f"Cookie: {cookie}"], None, None),
    "pins by cookie": (COOKIE, ["-H", f"Cookie: {cookie}"], "no pins, a cookie", 1.08),
    "pins by application-cookie": (SESSION, ["-H", f"Cookie: SESSION={cookie[-20:]}"], "no pins, a cookie", 1.15),
    "no pins, a million addresses": (PLAIN, ["-s", many], None, None),
    "pins by address, a million": (ADDRESS, ["-s", many], "no pins, a million addresses", 1.10),
}


def measure(port, more):
    before = cpu_seconds(options.pid)
    command = ["wrk", "-t1", "-c64", f"-d{options.seconds}s", *more, f"http://127.0.0.1:{port}/bytes/13"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    if re.search(r"Non-2xx.*|Socket errors: connect [1-9].*", text):
        raise SystemExit(text)
    requests = int(re.search(r"(\d+) requests in", text).group(1))
    return (cpu_seconds(options.pid) - before) * 1e6 / requests


# Every address has its pin before anything is measured.
subprocess.run(["wrk", "-t1", "-c64", "-d120s", "-s", each, f"http://127.0.0.1:{ADDRESS}/bytes/13"], capture_output=True, check=True)
while True:
    measure(ADDRESS, ["-s", many])
    kept = call("GET", "/pools/address/pins?limit=1")
    print(f"{kept['kept']} pins are there", flush=True)
    if kept["kept"] >= 0.95 * PINS:
        break
runs = {}
for number in range(options.rounds):
    for way, (port, more, _, _) in WAYS.items():
        runs.setdefault(way, []).append(measure(port, more))
    print(f"round {number + 1}", flush=True)
rows = []
for way, (_, _, floor, wanted) in WAYS.items():
    ratio = "-" if floor is None else f"{statistics.median(a / b for a, b in zip(runs[way], runs[floor])):.2f}"
    rows.append(f"| {way} | {statistics.median(runs[way]):.1f} | {ratio} | {wanted or ''} |")

# ---- how workers share a table --------------------------------------------------------------------------------------

shared = []
for threads in (1, 2, 4):
    took = [int(subprocess.run([options.looks, str(threads), str(PINS), "2000000"], capture_output=True, text=True, check=True).stdout) for _ in range(3)]
    shared.append(f"| {threads} | {statistics.median(took):.0f} |")

# ---- drains ---------------------------------------------------------------------------------------------------------


class Server(threading.Thread):
    """Answers, and notes when it was asked. A request for /hold is answered when `go` is set."""

    def __init__(self):
        super().__init__(daemon=True)
        self.listener = socket.create_server(("127.0.0.1", 0), backlog=512)
        self.address = "127.0.0.1:%d" % self.listener.getsockname()[1]
        self.asked, self.answered, self.go = [], [], threading.Event()

    def run(self):
        while True:
            connection, _ = self.listener.accept()
            threading.Thread(target=self.serve, args=(connection,), daemon=True).start()

    def serve(self, connection):
        while True:
            head = connection.recv(4096)
            if not head:
                return
            if b"/health" not in head:
                self.asked.append(time.monotonic())
            if b"/hold" in head:
                self.go.wait()
                self.answered.append(time.monotonic())
            connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")


leaving, staying = Server(), Server()
for server in (leaving, staying):
    server.start()
call("POST", "/apply", {"format": "toml", "only": ["pools.drains", "frontends.drains", "checks.drains"], "text": f"""
format = 3
[checks.drains]
kind = "http"
path = "/health"
interval = "1s"
timeout = "500ms"
[pools.drains]
check = "drains"
servers.leaving = {{ address = "{leaving.address}" }}
servers.staying = {{ address = "{staying.address}" }}
[frontends.drains]
protocol = "http"
listen = "127.0.0.1:17625"
pool = "drains"
"""})
while call("GET", "/servers/drains/leaving")["eligible"] is not True or call("GET", "/servers/drains/staying")["eligible"] is not True:
    time.sleep(0.1)
over = threading.Event()


def visit():
    while not over.is_set():
        client = http.client.HTTPConnection("127.0.0.1", 17625, timeout=10)
        client.request("GET", "/")
        client.getresponse().read()
        client.close()


visitors = [threading.Thread(target=visit) for _ in range(4)]
for visitor in visitors:
    visitor.start()


def duty(word, query=""):
    return call("POST", f"/servers/drains/leaving/duty{query}", {"duty": word, "reason": "a benchmark"})


decided, followed = [], []
for _ in range(30):
    time.sleep(0.1)
    began = time.monotonic()
    duty("draining")
    followed.append((time.monotonic() - began) * 1000)
    time.sleep(0.15)
    decided.append((max([it for it in leaving.asked], default=began) - began) * 1000)
    duty("in_service")
    while call("GET", "/servers/drains/leaving")["eligible"] is not True:
        time.sleep(0.02)
over.set()
for visitor in visitors:
    visitor.join()

waits = {"the API's `wait`": [], "`merismos drain --wait`": []}
for way, took in waits.items():
    for _ in range(10):
        leaving.go.clear()
        before = len(leaving.answered)
        holding = []
        while not [it for it in holding if it.is_alive()] or len(leaving.asked) == 0 or call("GET", "/servers/drains/leaving")["in_flight"] == 0:
            client = http.client.HTTPConnection("127.0.0.1", 17625, timeout=60)
            holding.append(threading.Thread(target=lambda client=client: (client.request("GET", "/hold"), client.getresponse().read())))
            holding[-1].start()
            time.sleep(0.05)
            staying.go.set()
        threading.Timer(1.0, leaving.go.set).start()
        if way.startswith("the API"):
            duty("draining", "?wait=30s")
        else:
            command = [options.merismos, "--url", f"http://{options.api}", "--token", open(options.token_file).read().strip()]
            subprocess.run([*command, "drain", "drains/leaving", "--wait", "--reason", "a benchmark"], capture_output=True, check=True)
        took.append((time.monotonic() - max(leaving.answered[before:])) * 1000)
        for it in holding:
            it.join()
        duty("in_service")
        while call("GET", "/servers/drains/leaving")["eligible"] is not True:
            time.sleep(0.02)


def times(words, took, wanted):
    return f"| {words} | {statistics.median(took):.1f} | {max(took):.1f} | {wanted} |"


with open(options.write, "a") as file:
    file.write(
        f"""
What pins cost a request (13 B, 64 keep-alive connections, {options.rounds} interleaved rounds of {options.seconds} s, CPU against the same work without them, median
of paired rounds). The million addresses are what a trusted proxy tells, at random, so each look finds another place of the memory:

| work | CPU µs a request | CPU against the same without | wanted at most |
|---|---:|---:|---:|
"""
        + "\n".join(rows)
        + f"""

A look at a table of {PINS} pins at random, by so many threads at once ({os.cpu_count()} cores; CPU time, median of three runs):

| threads | ns a look |
|---:|---:|
"""
        + "\n".join(shared)
        + f"""

Drains, in milliseconds: from the call until the last new client came to the server, and from the end of the last work until the one who
waits knows ({len(decided)} and 10 runs):

| what | median | slowest | wanted at most |
|---|---:|---:|---:|
{times("the call is answered", followed, "")}
{times("the last new client", decided, 50)}
"""
        + "\n".join(times(way, took, 200) for way, took in waits.items())
        + "\n"
    )
print(f"appended: {options.write}")
