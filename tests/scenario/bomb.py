"""bomb.py index REPOSITORY | package FILE - makes something small that unpacks to hundreds of megabytes, all digests right."""
import hashlib
import json
import struct
import subprocess
import sys


def compressed(text):
    return subprocess.run(["zstd", "-q", "-19", "--content-size", f"--stream-size={len(text)}"], input=text,
                          capture_output=True, check=True).stdout


def pointer(content, **more):
    return {"length": len(content), "hashes": {"sha256": hashlib.sha256(content).hexdigest()}, **more}


def document(kind, **more):
    return json.dumps({"signatures": [], "signed": {"_type": kind, "version": 9, **more}}).encode()


how, where = sys.argv[1:]
if how == "index":
    line = json.dumps({"name": "x" * 1000}).encode() + b"\n"
    index = compressed(line * 400_000)
    targets = document("targets", targets={"index/full-9.jsonl.zst": pointer(index)})
    snapshot = document("snapshot", meta={"targets.json": pointer(targets, version=9)})
    timestamp = document("timestamp", meta={"snapshot.json": pointer(snapshot, version=9)})
    for name, content in {"index/full-9.jsonl.zst": index, "trust/9.targets.json": targets,
                          "trust/9.snapshot.json": snapshot, "trust/timestamp.json": timestamp}.items():
        open(f"{where}/{name}", "wb").write(content)
else:
    table = compressed(b'{"entries":[' + b'{"path":"a"},' * 20_000_000 + b'{}]}')
    body = compressed(b"nothing") + struct.pack("<II", 0x184D2A5D, len(table))
    footer = struct.pack("<II", 0x184D2A5E, 64) + b"HAMBREL\n" + struct.pack("<IIQQ", 1, 0, len(body), len(table))
    open(where, "wb").write(body + table + footer + hashlib.sha256(table).digest())
