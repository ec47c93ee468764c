#!/usr/bin/env python3
"""Takes a picture of the console, 1280x800, with headless Chromium: scripts/picture.py FILE [options]."""

import argparse
import base64
import json
import os
import subprocess
import tempfile
import time
import urllib.request

parser = argparse.ArgumentParser()
parser.add_argument("file")
parser.add_argument("--dark", action="store_true")
parser.add_argument("--logged-out", action="store_true")
parser.add_argument("--try", dest="frontend")
parser.add_argument("--path", default="/", help="the page's address")
parser.add_argument("--script", action="append", default=[], help="what to do on the page before the picture")
parser.add_argument("--draft", help="work in this draft")
parser.add_argument("--size", default="1280x800")
options = parser.parse_args()
width, height = map(int, options.size.split("x"))

url, token = os.environ["MERISMOS_URL"], os.environ["MERISMOS_TOKEN"]
driver = subprocess.Popen(["chromedriver", "--port=0"], stdout=subprocess.PIPE, text=True)
port = next(line.rsplit(" ", 1)[1].strip(". \n") for line in driver.stdout if "successfully on port" in line)


def call(method, path, body=None):
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(f"http://127.0.0.1:{port}/{path}", data, {"content-type": "application/json"}, method=method)
    return json.load(urllib.request.urlopen(request, timeout=60))["value"]


with tempfile.TemporaryDirectory() as profile:
    arguments = [
        "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--disable-quic", "--no-first-run",
        "--no-default-browser-check", "--disable-background-networking", "--disable-component-update", "--disable-sync",
        "--disable-extensions", "--no-proxy-server", "--hide-scrollbars", "--force-device-scale-factor=1",
        f"--window-size={width},{height}", f"--user-data-dir={profile}", "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1",
    ]
    capabilities = {"alwaysMatch": {"goog:chromeOptions": {"args": arguments}}}
    session = "session/" + call("POST", "session", {"capabilities": capabilities})["sessionId"]
    try:
        run = lambda script: call("POST", f"{session}/execute/sync", {"script": script, "args": []})
        cdp = lambda name, params: call("POST", f"{session}/goog/cdp/execute", {"cmd": name, "params": params})
        # The window's frame takes some of its size; a narrow page can't be had by the window alone.
        cdp("Emulation.setDeviceMetricsOverride", {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500})
        if options.dark:
            cdp("Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": "dark"}]})
        call("POST", f"{session}/url", {"url": url})
        if not options.logged_out:
            run(f"return fetch('/api/v1/session', {{method: 'POST', headers: {{'content-type': 'application/json'}}, body: JSON.stringify({{token: {json.dumps(token)}}})}}).then(r => r.status)")
            if options.draft:
                run(f"sessionStorage.setItem('merismos-draft', {json.dumps(options.draft)})")
            call("POST", f"{session}/url", {"url": url + options.path})
        wanted = "return !!document.querySelector('#token')" if options.logged_out else "return !!document.querySelector('[data-testid=flow], main h2, #pools-title')"
        end = time.time() + 30
        while not run(wanted):
            if time.time() > end:
                raise SystemExit("the page does not show what it should")
            time.sleep(0.1)
        if options.frontend:
            run(f"[...document.querySelectorAll('button')].find(b => b.textContent.includes('Try {options.frontend}')).click()")
            time.sleep(0.3)
            run("[...document.querySelectorAll('button')].find(b => b.textContent.includes('Send real requests')).click()")
            while not run("return !!document.querySelector('[data-testid=verdict]')"):
                if time.time() > end:
                    raise SystemExit("the trial does not end")
                time.sleep(0.1)
        time.sleep(1.2)
        for script in options.script:
            # `fill(label, text)` types into the field with that label, `press(text)` presses a button or a tab.
            run("""
              const fill = (label, text) => {
                const named = [...document.querySelectorAll('label')].find(l => l.textContent.trim().startsWith(label));
                const field = document.querySelector(`[aria-label="${label}"]`) ?? named?.control;
                const kind = field.tagName === 'TEXTAREA' ? HTMLTextAreaElement : field.tagName === 'SELECT' ? HTMLSelectElement : HTMLInputElement;
                Object.getOwnPropertyDescriptor(kind.prototype, 'value').set.call(field, text);
                field.dispatchEvent(new Event('input', {bubbles: true}));
                field.dispatchEvent(new Event('change', {bubbles: true}));
              };
              const press = text => [...document.querySelectorAll('button, [role=tab], a')].find(b => b.textContent.trim().startsWith(text)).click();
            """ + script)
            time.sleep(1.0)
        picture = call("GET", f"{session}/screenshot")
        with open(options.file, "wb") as file:
            file.write(base64.b64decode(picture))
        print(options.file, "page height", run("return document.documentElement.scrollHeight"))
    finally:
        call("DELETE", session)
        driver.terminate()
        driver.wait()
