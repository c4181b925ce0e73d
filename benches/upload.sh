#!/usr/bin/env bash
# benches/upload.sh [MIB]: uploads a build of MIB mebibytes (1024 when left out) to the stand-in on this machine, and prints wall time
# as a ratio to `curl`, which sends the same pieces to the same stand-in with digests that were made beforehand, and ends the upload;
# the peak memory of the program and of the stand-in; how much is sent again after a cut at nine tenths; and the time of `deliveries`
# over 10,000 builds. Best of three, taken in turn. Needs curl and python3.
set -euo pipefail
size=${1:-1024}
here=$(cd "$(dirname "$0")/.." && pwd)
[ -n "${PROGRAM:-}" ] || cargo build --profile dist --quiet --manifest-path "$here/Cargo.toml"
program="${PROGRAM:-${CARGO_TARGET_DIR:-$here/target}/dist/ninekeys}"
work=$(mktemp -d)
trap 'rm -rf "$work"; kill $(jobs -p) 2>/dev/null || true' EXIT
cd "$work"
export HOME="$work" XDG_STATE_HOME="$work/state"

"$program" demo -q demo >/dev/null
python3 - "$program" "$size" <<'PY'
"""Makes a package of the wanted size, 2,000 stored entries of random bytes, and measures on it."""
import base64, hashlib, json, os, signal, sqlite3, subprocess, sys, time, zipfile

program, size = sys.argv[1], int(sys.argv[2]) << 20
PIECE = 8 << 20
os.chdir("demo")
block = os.urandom(1 << 20)
each = size // 2_000


def serve(listen="127.0.0.1:0"):
    child = subprocess.Popen([program, "stand-in", "serve", "--folder", "portal", "--looks", "0", "--listen", listen, "--format", "json"],
                             stdout=subprocess.PIPE, text=True)
    text = ""
    while not text.endswith("\n}\n"):
        text += child.stdout.readline()
    return child, json.loads(text)["address"]


def run(*words):
    return subprocess.run([program, *words], check=True, capture_output=True, text=True).stdout


def once(*command):
    """Wall time in seconds and peak memory in MiB."""
    os.sync()
    start = time.monotonic()
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    took = time.monotonic() - start
    assert status == 0, f"{command} ended with {status}"
    return took, usage.ru_maxrss / 1024


def peak_of(child):
    for line in open(f"/proc/{child.pid}/status"):
        if line.startswith("VmHWM"):
            return int(line.split()[1]) / 1024


server, address = serve()
text = open("ninekeys.toml").read().splitlines()
open("ninekeys.toml", "w").write("\n".join(f'portal = "{address}"' if line.startswith("portal =") else line for line in text) + "\n")
with zipfile.ZipFile("builds/crossing-release.apk") as old, zipfile.ZipFile("build.apk", "w") as new:
    for entry in old.infolist():
        new.writestr(entry, old.read(entry))
    for number in range(2_000):
        at = number * 7 % (len(block) - each)
        new.writestr(zipfile.ZipInfo(f"assets/{number:05}.bin", (1980, 1, 1, 0, 0, 0)), block[at : at + each])


def signed(number):
    run("sign", "-q", "build.apk", "--for", "store", "--to", "big", "--set-build", str(number))
    return f"big/crossing-2.4.0-{number}-store.apk"


def pieces(path, folder):
    """The pieces as files, and what curl has to be told to send them."""
    os.makedirs(folder)
    data = open(path, "rb")
    digest = hashlib.sha256()
    lines, number = [], 0
    while piece := data.read(PIECE):
        digest.update(piece)
        open(f"{folder}/{number}", "wb").write(piece)
        lines.append((number, base64.b64encode(hashlib.sha256(piece).digest()).decode()))
        number += 1
    return digest.hexdigest(), lines


def by_curl(path, folder):
    """The time in which curl begins an upload, sends the pieces, and ends it."""
    sha256, lines = pieces(path, folder)
    token = run("apikey", "token", "portal").strip()
    base = f"{address}/store/v1/uploads/{sha256}"
    new = {"id": "example.gannetpoint.crossing", "platform": "android", "file": os.path.basename(path),
           "size": os.path.getsize(path), "sha256": sha256}
    head = f'header = "authorization: Bearer {token}"\nsilent\nshow-error\nfail\noutput = "/dev/null"\nrequest = '
    config = [head + f'"PUT"\nurl = "{base}"\nheader = "content-type: application/json"\ndata = {json.dumps(json.dumps(new))}']
    for number, digest in lines:
        config.append(head + f'"PUT"\nurl = "{base}/pieces/{number}"\nheader = "content-type: application/octet-stream"\n'
                             f'header = "content-digest: sha-256=:{digest}:"\nheader = "expect:"\nupload-file = "{folder}/{number}"')
    config.append(head + f'"POST"\nurl = "{base}/completion"\nheader = "content-type: application/json"\ndata = "{{}}"')
    open("curl.cfg", "w").write("\nnext\n".join(config))
    return once("curl", "--config", "curl.cfg")


runs = {name: [] for name in ["curl", "upload", "digest"]}
number = 100
for turn in range(3):
    path = signed(number)
    runs["digest"].append(once("openssl", "dgst", "-sha256", path))
    runs["curl"].append(by_curl(path, f"pieces{turn}"))
    subprocess.run(["rm", "-rf", f"pieces{turn}"])
    os.remove(path)
    path = signed(number + 1)
    runs["upload"].append(once(program, "upload", "-q", path))
    number += 2
best = {name: min(took for took, _ in all) for name, all in runs.items()}
memory = max(memory for _, memory in runs["upload"])
print(f"a build of {os.path.getsize(path) >> 20} MiB, {os.cpu_count()} cores, best of three")
print(f"openssl dgst -sha256  {best['digest']:6.2f} s")
print(f"curl, the same pieces {best['curl']:6.2f} s")
print(f"upload, with the check and the hash before it {best['upload']:6.2f} s, {best['upload'] / best['curl']:.2f} x curl (aim 1.40), "
      f"peak {memory:.0f} MiB, the stand-in {peak_of(server):.0f} MiB (aim 64)")

# cut at nine tenths
path = signed(number)
child = subprocess.Popen([program, "upload", "-q", path], stderr=subprocess.DEVNULL)
part = None
wanted = os.path.getsize(path) * 9 // 10
while child.poll() is None:
    parts = [f"portal/builds/{name}" for name in os.listdir("portal/builds") if name.endswith(".part")]
    newest = max(parts, key=os.path.getmtime)
    if os.path.getsize(newest) >= wanted and os.path.getsize(newest) < os.path.getsize(path):
        child.send_signal(signal.SIGKILL)
        break
    time.sleep(0.005)
child.wait()
again = json.loads(run("upload", path, "--format", "json"))
twice = again["sent"] + again["resumed"] - os.path.getsize(path)
print(f"killed at nine tenths: {again['sent'] >> 20} MiB sent by the next call, {again['resumed'] >> 20} MiB were there, {twice} bytes twice")

# ten thousand builds
server.kill()
server.wait()
database = sqlite3.connect("portal/stand-in.sqlite")
row = database.execute("select body from thing where kind = 'delivery' limit 1").fetchone()[0]
one = json.loads(row)
for count in range(10_000):
    one.update(delivery=f"{count:016x}", number=str(count + 1_000), sha256=f"{count:064x}")
    database.execute("insert into thing (kind, id, made, body) values ('delivery', ?, 0, ?)", (one["delivery"], json.dumps(one)))
database.commit()
server, address = serve(address.rsplit("/", 1)[1])
listed = [once(program, "deliveries") for _ in range(5)]
json_listed = [once(program, "deliveries", "--format", "json") for _ in range(5)]
print(f"deliveries over 10,000 builds: {min(took for took, _ in listed) * 1000:.0f} ms (aim 300), peak {max(memory for _, memory in listed):.0f} MiB; "
      f"as JSON {min(took for took, _ in json_listed) * 1000:.0f} ms")
server.kill()
PY
