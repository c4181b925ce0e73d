#!/usr/bin/env bash
# benches/material.sh [PROFILES]: fills a cabinet with PROFILES profiles (1000 when left out) of 100 devices each, and with
# other devices up to ten items a profile, and prints the best wall time of five and the peak memory of what looks at them, and
# the times of taking them in, beside `openssl cms -verify` of one of the profiles. Needs openssl and python3.
set -euo pipefail
profiles=${1:-1000}
here=$(cd "$(dirname "$0")/.." && pwd)
cargo build --profile dist --quiet --manifest-path "$here/Cargo.toml"
program="${CARGO_TARGET_DIR:-$here/target}/dist/ninekeys"
work=$(mktemp -d)
trap 'kill %1 2>/dev/null || true; rm -rf "$work"' EXIT
cd "$work"
python3 - "$profiles" <<'PY'
import sys
count = int(sys.argv[1]) * 9
for name, first, many in [("hundred.csv", 0, 100), ("thousand.csv", 100, 1000), ("rest.csv", 1100, max(count - 1100, 0))]:
    with open(name, "w") as out:
        for number in range(first, first + many):
            print(f"{0x8030:08X}-{number:016X},Device {number}", file=out)
PY
"$program" stand-in serve --folder portal --format json >serve.json &
until [[ -s serve.json ]] && grep -q '^}' serve.json; do sleep 0.05; done
field() { python3 -c 'import functools, json, sys; print(functools.reduce(lambda a, b: a[b], sys.argv[1:], json.load(open("serve.json"))))' "$@"; }
"$program" init -q --title Bench --team GPFERRY009 --portal "$(field address)" --root portal/root.pem --new-unlock-file unlock.txt
"$program" apikey import portal/first-key.pem -q --name owner --key-id "$(field first_key key_id)" \
  --issuer "$(field first_key issuer)" --role owner --use signing
"$program" app add -q crossing --bundle-id example.gannetpoint.crossing --for devices
"$program" device import -q hundred.csv
"$program" prepare -q --app crossing --for devices --yes
python3 - "$program" "$profiles" <<'PY'
"""Has the profiles made, takes them in, and measures."""
import base64, glob, json, os, subprocess, sys, time, urllib.request

program, count = sys.argv[1], int(sys.argv[2])
address = json.load(open("serve.json"))["address"]
call = 0


def ask(path, body=None, token=None):
    global call
    call += 1
    head = {"authorization": f"Bearer {token}", "content-type": "application/json", "idempotency-key": f"bench-{call}"}
    data = None if body is None else json.dumps(body).encode()
    return json.load(urllib.request.urlopen(urllib.request.Request(f"{address}/portal/v1{path}", data, head)))


def once(*command):
    """Wall time in seconds and peak memory in MiB; a check may end with 1."""
    start = time.monotonic()
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    assert os.waitstatus_to_exitcode(status) in (0, 1), command
    return time.monotonic() - start, usage.ru_maxrss / 1024


def say(what, wall, peak):
    print(f"{what:44} {wall * 1000:8.1f} ms  {peak:6.0f} MiB", flush=True)


token = subprocess.run([program, "apikey", "token", "owner", "--minutes", "20"], capture_output=True, text=True, check=True)
token = token.stdout.strip()
devices = [one["identifier"] for one in ask("/devices", token=token)["items"]]
certificate = ask("/certificates", token=token)["items"][0]["id"]
for number in range(count):
    bundle = f"example.gannetpoint.app{number}"
    ask("/app-ids", {"bundle_id": bundle, "title": f"App {number}", "capabilities": []}, token)
    new = {"title": f"App {number}", "destination": "devices", "bundle_id": bundle,
           "certificates": [certificate], "devices": devices}
    with open(f"app{number}.mobileprovision", "wb") as out:
        out.write(base64.b64decode(ask("/profiles", new, token)["file"]))
files = sorted(glob.glob("app*.mobileprovision"))
wall, peak = once(program, "profile", "import", "-q", *files)
say(f"profile import of {len(files)} profiles", wall, peak)
print(f"{'':44} {wall * 1000 / len(files):8.1f} ms a profile of {len(devices)} devices")
yardstick = ["openssl", "cms", "-verify", "-inform", "DER", "-purpose", "any", "-CAfile", "portal/root.pem", "-in", files[0],
             "-out", "/dev/null"]
say("openssl cms -verify of one", *min(once(*yardstick) for _ in range(5)))
say("device import of 1000 by file", *once(program, "device", "import", "-q", "thousand.csv"))
if os.path.getsize("rest.csv"):
    once(program, "device", "import", "-q", "rest.csv")
with open("ninekeys.toml", "a") as out:
    for number in range(count):
        out.write(f'\n[app.app{number}]\ntitle = "App {number}"\n[app.app{number}.ios]\n'
                  f'bundle-id = "example.gannetpoint.app{number}"\ndestinations = ["devices"]\n')
items = len(json.loads(subprocess.run([program, "inventory", "--format", "json"], capture_output=True).stdout)["items"])
print(f"{items} items in the list, {count + 1} apps")
for line in ["check --all", "inventory", "board", "device list"]:
    say(line, *min(once(program, *line.split()) for _ in range(5)))
start = time.monotonic()
subprocess.run(["openssl", "dgst", "-sha256", "ninekeys.cabinet"], check=True, stdout=subprocess.DEVNULL)
say(f"openssl dgst of the cabinet, {os.path.getsize('ninekeys.cabinet') >> 20} MiB", time.monotonic() - start, 0)
PY
