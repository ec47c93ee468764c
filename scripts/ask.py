#!/usr/bin/env python3
"""Sends so many requests one after the other on one connection: scripts/ask.py ADDRESS:PORT COUNT [FIELD]."""

import socket
import sys

address, count = sys.argv[1].rsplit(":", 1), int(sys.argv[2])
stream = socket.create_connection((address[0], int(address[1])), timeout=60)
stream.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
request = b"GET /bytes/13 HTTP/1.1\r\nHost: bench.skerry.example\r\nUser-Agent: ask\r\nAccept: */*\r\n"
request += "".join(field + "\r\n" for field in sys.argv[3:]).encode() + b"\r\n"
for _ in range(count):
    stream.sendall(request)
    answer = b""
    # The body is 13 bytes, and the head ends with an empty line.
    while b"\r\n\r\n" not in answer or len(answer) < answer.index(b"\r\n\r\n") + 4 + 13:
        piece = stream.recv(65536)
        if not piece:
            sys.exit("the connection was closed")
        answer += piece
    if not answer.startswith(b"HTTP/1.1 200"):
        sys.exit(f"not answered with 200: {answer[:60]!r}")
