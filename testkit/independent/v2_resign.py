"""v2_resign.py APK OUT: signs a package anew under scheme v2 with an RSA key of 1024 bits made by `openssl`.

Our own program makes no such key and signs with none; its check has to cope with one all the same. Nothing but
Python's standard library and the `openssl` command line. Works in the current folder.
"""
import hashlib
import struct
import subprocess
import sys


def lp(data):
    return struct.pack("<I", len(data)) + data


def openssl(*words):
    return subprocess.run(["openssl", *words], check=True, capture_output=True).stdout


def main():
    apk = open(sys.argv[1], "rb").read()
    openssl("req", "-x509", "-nodes", "-newkey", "rsa:1024", "-keyout", "weak.key", "-days", "10000",
            "-subj", "/CN=Weak", "-out", "weak.pem")
    certificate = openssl("x509", "-in", "weak.pem", "-outform", "DER")
    public = openssl("pkey", "-in", "weak.key", "-pubout", "-outform", "DER")
    end = apk.rindex(b"PK\x05\x06")
    size, start = struct.unpack_from("<II", apk, end + 12)
    body = start - struct.unpack_from("<Q", apk, start - 24)[0] - 8
    tail = bytearray(apk[end:])
    struct.pack_into("<I", tail, 16, body)
    chunks = []
    for section in (apk[:body], apk[start : start + size], bytes(tail)):
        for offset in range(0, len(section), 1 << 20):
            chunk = section[offset : offset + (1 << 20)]
            chunks.append(hashlib.sha256(b"\xa5" + struct.pack("<I", len(chunk)) + chunk).digest())
    digest = hashlib.sha256(b"\x5a" + struct.pack("<I", len(chunks)) + b"".join(chunks)).digest()
    algorithm = struct.pack("<I", 0x0103)
    signed_data = lp(lp(algorithm + lp(digest))) + lp(lp(certificate)) + lp(b"") + bytes(4)
    open("weak.data", "wb").write(signed_data)
    signature = openssl("dgst", "-sha256", "-sign", "weak.key", "weak.data")
    signer = lp(signed_data) + lp(lp(algorithm + lp(signature))) + lp(public)
    value = lp(lp(signer))
    pair = struct.pack("<QI", len(value) + 4, 0x7109871A) + value
    length = struct.pack("<Q", len(pair) + 24)
    block = length + pair + length + b"APK Sig Block 42"
    struct.pack_into("<I", tail, 16, body + len(block))
    open(sys.argv[2], "wb").write(apk[:body] + block + apk[start : start + size] + tail)


if __name__ == "__main__":
    main()
