"""Holds a signed IPA against its own signatures, with nothing but Python: pages, slots and seals.

Usage: ipa_parts.py BUILD.ipa FOLDER
Leaves the directory and the message of every slice in FOLDER, as N.directory and N.message, and says what agreed.
"""

import hashlib
import plistlib
import re
import struct
import sys
import zipfile

archive = zipfile.ZipFile(sys.argv[1])
folder = sys.argv[2]
files = {i.filename: archive.read(i) for i in archive.infolist() if not i.filename.endswith("/")}
links = {i.filename for i in archive.infolist() if (i.external_attr >> 28) == 0xA}
count = 0


def slices(data):
    if data[:4] == b"\xca\xfe\xba\xbe":
        for index in range(struct.unpack_from(">I", data, 4)[0]):
            _, _, offset, size, _ = struct.unpack_from(">5I", data, 8 + 20 * index)
            yield data[offset : offset + size]
    elif data[:4] == b"\xcf\xfa\xed\xfe":
        yield data


def signature(data):
    at = 32
    for _ in range(struct.unpack_from("<I", data, 16)[0]):
        command, size = struct.unpack_from("<II", data, at)
        if command == 0x1D:
            return struct.unpack_from("<II", data, at + 8)
        at += size
    raise SystemExit("no signature")


def blobs(data):
    magic, _, many = struct.unpack_from(">III", data, 0)
    assert magic == 0xFADE0CC0
    found = {}
    for index in range(many):
        slot, at = struct.unpack_from(">II", data, 12 + 8 * index)
        size = struct.unpack_from(">I", data, at + 4)[0]
        found[slot] = data[at : at + size]
    return found


def prove(data, bundle):
    """One slice: every page, every special slot."""
    global count
    start, size = signature(data)
    assert start % 16 == 0 and start + size == len(data), "where the signature stands"
    all_blobs = blobs(data[start : start + size])
    directory = all_blobs[0]
    fields = struct.unpack_from(">11I", directory, 0)
    hashes, special, pages, limit = fields[4], fields[6], fields[7], fields[8]
    assert directory[36:40] == bytes([32, 2, 0, 12]), "SHA-256, pages of 4096 bytes"
    assert limit == start
    for index in range(pages):
        page = data[index * 4096 : min((index + 1) * 4096, limit)]
        wanted = directory[hashes + 32 * index : hashes + 32 * (index + 1)]
        assert hashlib.sha256(page).digest() == wanted, f"page {index}"
    beside = {1: files.get(bundle + "Info.plist"), 3: files.get(bundle + "_CodeSignature/CodeResources")}
    beside = beside if bundle else {}
    beside.update({slot: all_blobs.get(slot) for slot in (2, 5, 7)})
    for slot in range(1, special + 1):
        wanted = directory[hashes - 32 * slot : hashes - 32 * (slot - 1)]
        content = beside.get(slot)
        found = hashlib.sha256(content).digest() if content is not None else bytes(32)
        assert found == wanted, f"slot {slot}"
    open(f"{folder}/{count}.directory", "wb").write(directory)
    open(f"{folder}/{count}.message", "wb").write(all_blobs[0x10000][8:])
    count += 1


def prove_seal(bundle, own):
    """Every file of a bundle that its rules seal, and no other."""
    seal = plistlib.loads(files[bundle + "_CodeSignature/CodeResources"])

    def ruling(path):
        best = (0, {"omit": True})
        for pattern, rule in seal["rules2"].items():
            rule = {} if rule is True else rule
            weight = rule.get("weight", 1)
            if re.search(pattern, path) and weight > best[0]:
                best = (weight, rule)
        return best[1]

    sealed = set(seal["files2"])
    for name, content in files.items():
        path = name[len(bundle) :]
        if not name.startswith(bundle) or name == own or path.startswith("_CodeSignature/"):
            continue
        if ruling(path).get("omit"):
            continue
        entry = seal["files2"][path]
        if name in links:
            assert entry["symlink"].encode() == content, path
        else:
            assert entry["hash2"] == hashlib.sha256(content).digest(), path
            if path in seal["files"]:
                old = seal["files"][path]
                old = old["hash"] if isinstance(old, dict) else old
                assert old == hashlib.sha1(content).digest(), path
        sealed.discard(path)
    assert not sealed, f"sealed and not there: {sealed}"


bundles = {}
for name in files:
    if name.endswith("/Info.plist") and re.search(r"\.(app|appex|framework)/Info\.plist$", name):
        executable = plistlib.loads(files[name]).get("CFBundleExecutable")
        bundles[name[: -len("Info.plist")]] = name[: -len("Info.plist")] + executable
for name, content in files.items():
    home = next((bundle for bundle, own in bundles.items() if own == name), "")
    for data in slices(content):
        prove(data, home)
for bundle, own in bundles.items():
    prove_seal(bundle, own)
print(f"{count} slices and {len(bundles)} seals agree")
