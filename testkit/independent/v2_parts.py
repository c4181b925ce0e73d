"""v2_parts.py APK FOLDER: takes the first v2 signer of a package apart, and computes its content digest anew.

Written from the format's description alone, with nothing but Python's standard library, so that our own
reader and writer cannot be wrong together. Leaves certificate.der, public.der, signature.bin and
signed_data.bin in FOLDER; prints whether the digest agrees.
"""
import hashlib
import struct
import sys

HASHES = {0x0103: "sha256", 0x0104: "sha512", 0x0201: "sha256", 0x0202: "sha512"}


def prefixed(data, at):
    (length,) = struct.unpack_from("<I", data, at)
    assert at + 4 + length <= len(data), "a length runs out"
    return data[at + 4 : at + 4 + length], at + 4 + length


def main():
    apk = open(sys.argv[1], "rb").read()
    folder = sys.argv[2]
    end = apk.rindex(b"PK\x05\x06")
    size, start = struct.unpack_from("<II", apk, end + 12)
    assert apk[start - 16 : start] == b"APK Sig Block 42", "no signing block"
    (block_size,) = struct.unpack_from("<Q", apk, start - 24)
    block = start - block_size - 8
    at, value = block + 8, None
    while at < start - 24:
        length, pair = struct.unpack_from("<QI", apk, at)
        if pair == 0x7109871A:
            value = apk[at + 12 : at + 8 + length]
        at += 8 + length
    signers, _ = prefixed(value, 0)
    signer, _ = prefixed(signers, 0)
    signed_data, at = prefixed(signer, 0)
    signatures, at = prefixed(signer, at)
    public, _ = prefixed(signer, at)
    first, _ = prefixed(signatures, 0)
    (algorithm,) = struct.unpack_from("<I", first, 0)
    signature, _ = prefixed(first, 4)
    digests, at = prefixed(signed_data, 0)
    certificates, _ = prefixed(signed_data, at)
    first, _ = prefixed(digests, 0)
    assert struct.unpack_from("<I", first, 0)[0] == algorithm
    said, _ = prefixed(first, 4)
    certificate, _ = prefixed(certificates, 0)
    for name, data in [("certificate.der", certificate), ("public.der", public),
                       ("signature.bin", signature), ("signed_data.bin", signed_data)]:
        open(f"{folder}/{name}", "wb").write(data)

    new = lambda data: hashlib.new(HASHES[algorithm], data).digest()
    tail = bytearray(apk[end:])
    struct.pack_into("<I", tail, 16, block)
    chunks = []
    for section in (apk[:block], apk[start : start + size], bytes(tail)):
        for offset in range(0, len(section), 1 << 20):
            chunk = section[offset : offset + (1 << 20)]
            chunks.append(new(b"\xa5" + struct.pack("<I", len(chunk)) + chunk))
    found = new(b"\x5a" + struct.pack("<I", len(chunks)) + b"".join(chunks))
    print("content digest", "agrees" if found == said else "differs")
    return 0 if found == said else 1


if __name__ == "__main__":
    sys.exit(main())
