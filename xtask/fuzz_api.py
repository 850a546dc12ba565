"""Puts a schema-driven fuzzer on the API of a demo fleet, as a viewer and as an admin; `cargo xtask fuzz-api` starts it.

Every call that openapi.json describes is made with what fits its schema and with what does not. A server error, or an answer that the
description does not tell of, is a fault. Left out are live connections and terminals, which are no single answers, and for the admin the
calls by which the run would take its own token or its own rights away. Calls that take an archive are not made: the fuzzer has none."""

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import threading
import urllib.request

CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_headers_conformance,response_schema_conformance"
CONNECTIONS = "/live|/terminals"
ENDS_ITSELF = "/tokens/|/members|/sessions|/preferences|/roles|/directories"
# A demo is ready after a few seconds; on a busy machine it takes longer.
READY_SECONDS = 180
BOUNDS = {"viewer": ["see", "read-logs"]}


def call(url, token, method, path, body=None):
    headers = {"Authorization": "Bearer " + token, "Content-Type": "application/json"}
    data = json.dumps(body).encode() if body is not None else None
    with urllib.request.urlopen(urllib.request.Request(url + path, data, headers, method=method), timeout=20) as answer:
        return json.load(answer)


def token_of(ready, role):
    """A token with what the role may; the admin's is one of its own too, so that the run cannot end the demo's."""
    bounds = {"bounds": [{"scope": "fleet", "rights": BOUNDS[role]}]} if role in BOUNDS else {}
    made = call(ready["url"], ready["token"], "POST", "/api/v1/tokens", {"name": "fuzz " + role, **bounds})
    return made["secret"]


def is_clean(told):
    """Whether every case passed. The fuzzer makes no archives: that it cannot call what takes one is its only error that is let pass."""
    cases = re.search(r"(\d+) generated, (\d+) passed", told)
    errors = set(re.findall(r"^\s+\S+ (.+): \d+$", told[told.rfind("Errors:"):], re.M)) if "Errors:" in told else set()
    return bool(cases) and cases[1] == cases[2] and int(cases[1]) > 0 and errors <= {"Serialization not possible"}


def run(program, role, seconds):
    data = tempfile.mkdtemp(prefix="gubernum-fuzz-")
    log = open(os.path.join(data, "log"), "w+")
    arguments = ["demo", "--calm", "--listen", "127.0.0.1:0", "--ready-json", "--data-dir", os.path.join(data, "data")]
    demo = subprocess.Popen([program, *arguments], stdout=subprocess.PIPE, stderr=log, text=True)
    try:
        # A demo that does not get ready ends instead of being waited for without limit.
        late = threading.Timer(READY_SECONDS, demo.kill)
        late.start()
        ready = next((json.loads(line) for line in demo.stdout if line.startswith('{"url"')), None)
        late.cancel()
        if ready is None:
            log.seek(0)
            print(f"the demo was not ready after {READY_SECONDS} s:\n{log.read()[-2000:]}", flush=True)
            return False
        left_out = CONNECTIONS if role in BOUNDS else CONNECTIONS + "|" + ENDS_ITSELF
        command = [sys.executable, "-m", "schemathesis.cli", "--no-color", "fuzz", ready["url"] + "/openapi.json"]
        command += ["--header", "Authorization: Bearer " + token_of(ready, role), "--max-time", str(seconds)]
        command += ["--exclude-path-regex", left_out, "--checks", CHECKS, "--workers", "1", "--request-timeout", "20"]
        print(f"as {role}, for {seconds} s", flush=True)
        fuzzer = subprocess.run(command, cwd=data, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=seconds + 600)
        print(fuzzer.stdout[-6000:], flush=True)
        alive = demo.poll() is None
        if not alive:
            print("the service has ended", flush=True)
        log.seek(0)
        panics = [line for line in log if re.search("panicked", line)]
        print("".join(panics), end="", flush=True)
        return is_clean(fuzzer.stdout) and alive and not panics
    finally:
        demo.terminate()
        demo.wait(timeout=30)
        shutil.rmtree(data, ignore_errors=True)


if __name__ == "__main__":
    program, seconds, roles = sys.argv[1], int(sys.argv[2]), sys.argv[3:] or ["viewer", "admin"]
    outcomes = [run(program, role, seconds) for role in roles]
    sys.exit(0 if all(outcomes) else 1)
