"""schemes.py APK FOLDER: verifies every scheme of a package's signing block, its lineage and its idsig anew.

Written from the formats' description alone. Digests are Python's, signatures are verified by `openssl`; nothing of
the program under test is used. FOLDER takes temporary files. Prints one line for everything that holds, and ends with
an assertion where something does not.
"""
import hashlib
import os
import struct
import subprocess
import sys

IDS = {0x7109871A: "v2", 0xF05368C0: "v3", 0x1B93AD61: "v3.1"}
HASHES = {0x0103: "sha256", 0x0104: "sha512", 0x0201: "sha256", 0x0202: "sha512"}
FOLDER = sys.argv[2]


def u32(data, at=0):
    return struct.unpack_from("<I", data, at)[0]


def prefixed(data, at):
    length = u32(data, at)
    assert at + 4 + length <= len(data), "a length runs out"
    return data[at + 4 : at + 4 + length], at + 4 + length


def sequence(data):
    out, at = [], 0
    while at < len(data):
        one, at = prefixed(data, at)
        out.append(one)
    return out


def openssl(*words, **more):
    return subprocess.run(["openssl", *words], capture_output=True, check=True, **more).stdout


def verify(public, algorithm, message, signature):
    for name, data in [("p", public), ("m", message), ("s", signature)]:
        with open(os.path.join(FOLDER, name), "wb") as file:
            file.write(data)
    openssl("pkey", "-pubin", "-inform", "DER", "-in", "p", "-out", "p.pem", cwd=FOLDER)
    openssl("dgst", "-" + HASHES[algorithm], "-verify", "p.pem", "-signature", "s", "m", cwd=FOLDER)


def public_of(certificate):
    pem = openssl("x509", "-inform", "DER", "-noout", "-pubkey", input=certificate)
    return openssl("pkey", "-pubin", "-outform", "DER", input=pem)


def content_digest(apk, algorithm, block, start, size, end):
    new = lambda data: hashlib.new(HASHES[algorithm], data).digest()
    tail = bytearray(apk[end:])
    struct.pack_into("<I", tail, 16, block)
    chunks = []
    for section in (apk[:block], apk[start : start + size], bytes(tail)):
        for offset in range(0, len(section), 1 << 20):
            chunk = section[offset : offset + (1 << 20)]
            chunks.append(new(b"\xa5" + struct.pack("<I", len(chunk)) + chunk))
    return new(b"\x5a" + struct.pack("<I", len(chunks)) + b"".join(chunks))


def lineage(value, last):
    assert u32(value) == 1
    nodes, before = sequence(value[4:]), None
    for node in nodes:
        signed, at = prefixed(node, 0)
        following = u32(node, at + 4)
        signature, _ = prefixed(node, at + 8)
        certificate, at = prefixed(signed, 0)
        parent = u32(signed, at)
        if before:
            assert parent == before[1], "the algorithms of a hand-over differ"
            verify(before[0], parent, signed, signature)
        before = (public_of(certificate), following)
    assert certificate == last, "the lineage ends with another certificate"
    return len(nodes)


def signer(apk, place, scheme, value, contents):
    (one,) = sequence(prefixed(value, 0)[0])
    data, at = prefixed(one, 0)
    levels = None
    if scheme != "v2":
        levels, at = struct.unpack_from("<II", one, at), at + 8
    signatures, at = prefixed(one, at)
    public, at = prefixed(one, at)
    assert at == len(one)
    (signature,) = sequence(signatures)
    algorithm = u32(signature)
    verify(public, algorithm, data, prefixed(signature, 4)[0])
    digests, at = prefixed(data, 0)
    certificates, at = prefixed(data, at)
    if levels:
        assert struct.unpack_from("<II", data, at) == levels, "the levels inside and outside differ"
        at += 8
    attributes = {u32(one): one[4:] for one in sequence(prefixed(data, at)[0])}
    (digest,), (certificate,) = sequence(digests), sequence(certificates)
    assert u32(digest) == algorithm and public_of(certificate) == public
    content = prefixed(digest, 4)[0]
    assert content == content_digest(apk, algorithm, *place), "the content digest is another"
    contents[certificate] = content
    words = [scheme, "holds", hex(algorithm)]
    if levels:
        words.append(f"for SDK {levels[0]} to {levels[1]}")
    if 0x3BA06F8C in attributes:
        words.append(f"after a lineage of {lineage(attributes[0x3BA06F8C], certificate)} keys")
    if 0x559F8B02 in attributes:
        words.append(f"announces v3.1 from {u32(attributes[0x559F8B02])}")
    print(" ".join(words))


def tree(data):
    level = b"".join(hashlib.sha256(data[at : at + 4096].ljust(4096, b"\0")).digest() for at in range(0, len(data), 4096))
    level = level.ljust((len(level) + 4095) // 4096 * 4096, b"\0")
    if len(level) == 4096:
        return level, hashlib.sha256(level).digest()
    above, root = tree(level)
    return above + level, root


def idsig(apk, file, contents):
    assert u32(file) == 2
    hashing, at = prefixed(file, 4)
    signers, at = prefixed(file, at)
    levels, at = prefixed(file, at)
    assert at == len(file)
    found, root = tree(apk)
    assert hashing == struct.pack("<IBI", 1, 12, 0) + struct.pack("<I", 32) + root, "the root is another"
    assert levels == found, "the tree is another"
    at, count = 0, 0
    while at < len(signers):
        part = signers
        if count:
            assert u32(signers, at) == 0x1B93AD61
            part, following = prefixed(signers, at + 4)
            at = 0
        content, at = prefixed(part, at)
        certificate, at = prefixed(part, at)
        additional, at = prefixed(part, at)
        public, at = prefixed(part, at)
        algorithm = u32(part, at)
        signature, at = prefixed(part, at + 4)
        assert contents[certificate] == content and public_of(certificate) == public
        lp = lambda data: struct.pack("<I", len(data)) + data
        signed = struct.pack("<QIB", len(apk), 1, 12) + lp(b"") + lp(root) + lp(content) + lp(certificate) + lp(additional)
        verify(public, algorithm, struct.pack("<I", len(signed) + 4) + signed, signature)
        at = following if count else at
        count += 1
    print(f"v4 holds for {count} signers")


def main():
    apk = open(sys.argv[1], "rb").read()
    end = apk.rindex(b"PK\x05\x06")
    size, start = struct.unpack_from("<II", apk, end + 12)
    assert apk[start - 16 : start] == b"APK Sig Block 42", "no signing block"
    block = start - struct.unpack_from("<Q", apk, start - 24)[0] - 8
    at, contents = block + 8, {}
    while at < start - 24:
        length, pair = struct.unpack_from("<QI", apk, at)
        if pair in IDS:
            signer(apk, (block, start, size, end), IDS[pair], apk[at + 12 : at + 8 + length], contents)
        at += 8 + length
    if os.path.exists(sys.argv[1] + ".idsig"):
        idsig(apk, open(sys.argv[1] + ".idsig", "rb").read(), contents)


main()
