#!/usr/bin/env bash
# benches/ipa.sh [MIB]: signs and checks an IPA of MIB mebibytes (1024 when left out), 5,000 files and 20 frameworks of
# 8 MiB each, and prints wall time and peak memory as ratios to `unzip -tqq`, `cp` and `sync` of the same file in the same
# run. Every figure is the best of three, taken in turn. Needs unzip and python3.
set -euo pipefail
size=${1:-1024}
here=$(cd "$(dirname "$0")/.." && pwd)
cargo build --profile dist --quiet --manifest-path "$here/Cargo.toml"
program="${CARGO_TARGET_DIR:-$here/target}/dist/ninekeys"
samples="$here/testkit/samples/ios"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"

export NINEKEYS_NOW=2026-12-01T00:00:00Z
echo pier-pass-1 >pw
cp "$samples/root.pem" .
"$program" init -q --title Bench --team GPFERRY009 --root root.pem --new-unlock-file unlock.txt
"$program" app add -q crossing --bundle-id example.gannetpoint.crossing --for store
"$program" identity import -q "$samples/distribution.p12" --name bench --password-in pw
"$program" identity accept -q "$samples/intermediate.pem"
"$program" profile import -q "$samples/crossing-store.mobileprovision"
"$program" profile import -q "$samples/crossing-share-store.mobileprovision"
python3 - "$program" "$size" "$here/crates/core/demo/crossing-unsigned.ipa" <<'PY'
"""Makes an IPA of the wanted size around a small one, and measures on it."""
import os, plistlib, random, resource, shutil, struct, subprocess, sys, time, zipfile

program, size, small = sys.argv[1], int(sys.argv[2]) << 20, sys.argv[3]
app = "Payload/Crossing.app/"
noise = os.urandom(4 << 20)
words = (b"ferry timetable pier harbour ticket passenger crossing tide " * 4000)[: 1 << 17]


def grown(code, more):
    """The executable with more bytes at its end, in the segment that is last."""
    out, at = bytearray(code), 32
    for _ in range(struct.unpack_from("<I", code, 16)[0]):
        command, length = struct.unpack_from("<II", code, at)
        if command == 0x19 and code[at + 8 : at + 18] == b"__LINKEDIT":
            start, held = struct.unpack_from("<QQ", code, at + 40)
            struct.pack_into("<Q", out, at + 32, (held + more + 0x3FFF) & ~0x3FFF)
            struct.pack_into("<Q", out, at + 48, held + more)
        at += length
    return bytes(out) + (noise * (more // len(noise) + 1))[:more]


with zipfile.ZipFile(small) as old, zipfile.ZipFile("build.ipa", "w", zipfile.ZIP_DEFLATED, compresslevel=1) as new:
    kit = app + "Frameworks/CrossingKit1.framework/"
    info, code = plistlib.loads(old.read(kit + "Info.plist")), old.read(kit + "CrossingKit1")
    contents = [(entry, old.read(entry)) for entry in old.infolist()]
    for entry, content in contents:
        new.writestr(entry, content, compress_type=entry.compress_type)
    for number in range(2, 22):
        name = f"CrossingKit{number}"
        folder = f"{app}Frameworks/{name}.framework/"
        info["CFBundleExecutable"] = name
        info["CFBundleIdentifier"] = f"example.gannetpoint.crossing.kit{number}"
        new.writestr(folder + "Info.plist", plistlib.dumps(info, fmt=plistlib.FMT_BINARY))
        program_file = zipfile.ZipInfo(folder + name)
        program_file.external_attr = 0o100755 << 16
        program_file.create_system = 3
        program_file.compress_type = zipfile.ZIP_DEFLATED
        new.writestr(program_file, grown(code, 8 << 20))
    # half of them compress well, half do not
    each = (size - (160 << 20)) // 2_500 if size > 160 << 20 else 4_096
    for number in range(5_000):
        at = number * 7919 % (len(noise) - each - 1) if each < len(noise) else 0
        if number % 2:
            content = noise[at : at + each]
        else:
            content = (words * (each // len(words) + 1))[: each // 2] + noise[at : at + each // 50]
        new.writestr(f"{app}assets/{number:05}.dat", content)


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


subprocess.run([program, "sign", "-q", "build.ipa", "--to", "signed"], check=True)
signed = os.path.join("signed", os.listdir("signed")[0])
runs = {name: [] for name in ["copy", "sync", "unzip", "check", "sign"]}
for _ in range(3):
    runs["copy"].append(once("cp", "build.ipa", "copy.ipa"))
    runs["sync"].append((time_of(os.sync), 0))
    os.remove("copy.ipa")
    runs["unzip"].append(once("unzip", "-tqq", "build.ipa"))
    runs["check"].append(once(program, "check", "-q", signed, "--for", "store"))
    runs["sign"].append(once(program, "sign", "-q", "build.ipa", "--replace", "--to", "out"))
    shutil.rmtree("out")
best = {name: min(took for took, _ in all) for name, all in runs.items()}
peak = {name: max(memory for _, memory in all) for name, all in runs.items()}
written = best["copy"] + best["sync"]
print(f"an IPA of {os.path.getsize('build.ipa') >> 20} MiB, 5,000 files, 20 frameworks, {os.cpu_count()} cores, best of three")
print(f"cp                    {best['copy']:6.2f} s")
print(f"sync behind it        {best['sync']:6.2f} s")
print(f"unzip -tqq            {best['unzip']:6.2f} s")


def line(name, bound, words):
    ratio = f"{best[name] / bound:.2f} x {words}"
    print(f"{name:20}  {best[name]:6.2f} s   {ratio:32} (aim 1.00)   peak {peak[name]:3.0f} MiB (aim 192)")


line("check", best["unzip"], "unzip")
line("sign", best["unzip"] + 1.2 * written, "(unzip + 1.2 (cp + sync))")
PY
