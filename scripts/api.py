"""Calls of the API for the measuring scripts."""

import http.client
import json


def caller(address, token_file):
    """A function that calls the API at this address with the token in this file; it ends the script when it is refused."""
    token = open(token_file).read().strip()

    def call(method, path, body=None):
        # One that rested for long may have been closed.
        api = http.client.HTTPConnection(address, timeout=60)
        headers = {"authorization": f"Bearer {token}", "content-type": "application/json"}
        api.request(method, f"/api/v1{path}", None if body is None else json.dumps(body), headers)
        answer = api.getresponse()
        text = answer.read()
        api.close()
        if answer.status >= 400:
            raise SystemExit(f"{path}: {answer.status} {text.decode()}")
        return json.loads(text)

    return call
