#!/usr/bin/env bash
# benches/whole.sh [MIB]: signs and checks a build of MIB mebibytes (1024 when left out) and prints wall time and
# peak memory as ratios to neutral yardsticks measured in the same run: `openssl dgst -sha256` (one core) and `cp`
# and `sync` of the same file; with scheme v1, which inflates every entry, `unzip -tqq` as well. Key generation is the mean of
# 100 keys beside `openssl genrsa`. Every other figure is the best of five, taken in turn. Needs openssl, unzip and
# python3.
set -euo pipefail
size=${1:-1024}
here=$(cd "$(dirname "$0")/.." && pwd)
cargo build --profile dist --quiet --manifest-path "$here/Cargo.toml"
program="${CARGO_TARGET_DIR:-$here/target}/dist/ninekeys"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"

"$program" init -q --title Bench --new-unlock-file unlock.txt
"$program" app add -q crossing --package example.gannetpoint.crossing --for direct
"$program" keystore create -q bench --app crossing --common-name Bench --algorithm rsa-3072
"$program" demo -q demo >/dev/null
python3 - "$program" "$size" <<'PY'
"""Makes a package of the wanted size, 20,000 stored entries of random bytes, and measures on it."""
import os, resource, shutil, subprocess, sys, time, zipfile

program, size = sys.argv[1], int(sys.argv[2]) << 20
block = os.urandom(1 << 20)
each = size // 20_000
with zipfile.ZipFile("demo/builds/crossing-release.apk") as old, zipfile.ZipFile("build.apk", "w") as new:
    for entry in old.infolist():
        new.writestr(entry, old.read(entry))
    for number in range(20_000):
        at = number * 7 % (len(block) - each)
        new.writestr(zipfile.ZipInfo(f"assets/{number:05}.bin", (1980, 1, 1, 0, 0, 0)), block[at : at + each])


def once(*command):
    """Wall time in seconds and peak memory in MiB."""
    os.sync()
    start = time.monotonic()
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    took = time.monotonic() - start
    assert status == 0, f"{command} ended with {status}"
    return took, usage.ru_maxrss / 1024


def time_of(act):
    start = time.monotonic()
    act()
    return time.monotonic() - start


subprocess.run([program, "sign", "-q", "build.apk", "--to", "signed"], check=True)
signed = os.path.join("signed", os.listdir("signed")[0])
every = ["--schemes", "v1,v2,v3"]
subprocess.run([program, "sign", "-q", "build.apk", "--replace", "--to", "every", *every], check=True)
signed_v1 = os.path.join("every", os.listdir("every")[0])
runs = {name: [] for name in ["digest", "copy", "sync", "unzip", "check", "sign", "check v1", "sign v1", "version"]}
for _ in range(5):
    runs["digest"].append(once("openssl", "dgst", "-sha256", "build.apk"))
    runs["copy"].append(once("cp", "build.apk", "copy.apk"))
    runs["sync"].append((time_of(os.sync), 0))
    os.remove("copy.apk")
    runs["unzip"].append(once("unzip", "-tqq", "build.apk"))
    runs["check"].append(once(program, "check", "-q", signed))
    runs["check v1"].append(once(program, "check", "-q", signed_v1))
    for name, more in [("sign", []), ("sign v1", every)]:
        runs[name].append(once(program, "sign", "-q", "build.apk", "--replace", "--to", "out", *more))
        shutil.rmtree("out")
    runs["version"].append(once(program, "--version"))
best = {name: min(took for took, _ in all) for name, all in runs.items()}
peak = {name: max(memory for _, memory in all) for name, all in runs.items()}
written = best["copy"] + best["sync"]
print(f"a build of {os.path.getsize('build.apk') >> 20} MiB, 20,007 entries, {os.cpu_count()} cores, best of five")
print(f"openssl dgst -sha256  {best['digest']:6.2f} s")
print(f"cp                    {best['copy']:6.2f} s")
print(f"sync behind it        {best['sync']:6.2f} s")
print(f"unzip -tqq            {best['unzip']:6.2f} s")


def line(name, less, bound, words, aim):
    ratio = f"{(best[name] - less) / bound:.2f} x {words}"
    print(f"{name:20}  {best[name]:6.2f} s   {ratio:32} (aim {aim})   peak {peak[name]:3.0f} MiB (aim 128)")


line("check", 0, best["digest"], "dgst", "0.60")
line("sign", written, best["digest"], "dgst + cp + sync", "1.70")
line("check v1", 0, best["unzip"] + 1.2 * best["copy"], "(unzip + 1.2 cp)", "1.00")
line("sign v1", written, best["digest"], "dgst + cp + sync", "2.80")
print(f"--version             {best['version'] * 1000:6.1f} ms  (aim 10)")
PY

cargo run --profile dist --quiet --manifest-path "$here/Cargo.toml" -p ninekeys-core --example keygen -- 100

"$here/benches/ipa.sh" "$size"
