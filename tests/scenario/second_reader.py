#!/usr/bin/env python3
"""A second implementation of the package file's reader, written from docs/format.md alone (python3 and the zstd program).

second_reader.py FILE - checks every promise of the document against the file: footer, table, frames, entries, and that
the plain bytes are exactly the tar stream that section 1.2 prescribes. Prints "PATH SHA256" of each file; exit 1 if
anything differs.
"""
import base64, hashlib, json, struct, subprocess, sys


def unpack(stored):
    return subprocess.run(["zstd", "-dcq"], input=stored, stdout=subprocess.PIPE, check=True).stdout


def need(condition, what):
    if not condition:
        sys.exit(f"second_reader: {what}")


def ustar(name, kind, mode, size, mtime, link, user, group):
    octal = lambda value, digits: f"{value:0{digits}o}".encode() + b"\0"
    block = bytearray(512)

    def put(at, data):
        block[at:at + len(data)] = data

    put(0, name[:100])
    put(100, octal(mode, 7) + octal(0, 7) + octal(0, 7) + octal(size, 11) + octal(mtime, 11))
    put(148, b" " * 8)
    put(156, kind + link[:100])
    put(257, b"ustar\x0000")
    put(265, user[:31])
    put(297, group[:31])
    put(329, octal(0, 7) + octal(0, 7))
    put(148, f"{sum(block):06o}".encode() + b"\0 ")
    return bytes(block)


def record(key, value):
    length = len(key) + len(value) + 3
    while length != len(key) + len(value) + 3 + len(str(length)):
        length = len(key) + len(value) + 3 + len(str(length))
    return str(length).encode() + b" " + key + b"=" + value + b"\n"


def padded(data):
    return data + bytes(-len(data) % 512)


def header(entry):
    encode = lambda text: text.encode()
    name = encode(entry["path"] + ("/" if entry["type"] == "directory" else ""))
    target, user, group = encode(entry.get("target", "")), encode(entry["user"]), encode(entry["group"])
    size = entry["size"] if entry["type"] == "file" else 0
    beyond = lambda data, most: len(data) > most or any(byte > 0x7F for byte in data)
    records = b""
    if beyond(name, 100): records += record(b"path", name)
    if beyond(target, 100): records += record(b"linkpath", target)
    if size > 8 * 2**30 - 1: records += record(b"size", str(size).encode())
    if beyond(user, 31): records += record(b"uname", user)
    if beyond(group, 31): records += record(b"gname", group)
    for key in sorted(entry.get("attributes", {})):
        records += record(b"SCHILY.xattr." + encode(key), base64.b64decode(entry["attributes"][key], validate=True))
    result = b""
    if records: result = ustar(b"PaxHeader", b"x", 0o644, len(records), 0, b"", b"root", b"root") + padded(records)
    kind = {"file": b"0", "directory": b"5", "symlink": b"2", "hardlink": b"1"}[entry["type"]]
    return result + ustar(name, kind, entry["mode"], size, entry["mtime"], target, user, group)


def main(path):
    data = open(path, "rb").read()
    footer = data[-72:]
    need(footer[:16] == struct.pack("<II", 0x184D2A5E, 64) + b"HAMBREL\n", "footer")
    version, zero, offset, size = struct.unpack("<IIQQ", footer[16:40])
    need((version, zero) == (1, 0) and offset + size == len(data) - 72, "footer's numbers")
    stored = data[offset:offset + size]
    need(data[offset - 8:offset] == struct.pack("<II", 0x184D2A5D, size), "table's frame header")
    need(hashlib.sha256(stored).digest() == footer[40:], "table's digest")
    table = json.loads(unpack(stored))
    at, frames = 0, []
    for frame in table["frames"]:
        need(frame["offset"] == at, "frames tile the file")
        piece = data[at:at + frame["size"]]
        need(hashlib.sha256(piece).hexdigest() == frame["sha256"], "a frame's digest")
        frames.append(unpack(piece))
        need(len(frames[-1]) == frame["plain"], "a frame's plain size")
        at += frame["size"]
    need(at == offset - 8, "frames reach the table")
    begins = [sum(map(len, frames[:i])) for i in range(len(frames) + 1)]
    plain = b"".join(frames)

    manifest = frames[0][table["manifest"]["offset"]:][:table["manifest"]["size"]]
    facts = json.loads(manifest)
    need(manifest == json.dumps(facts, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode(), "canonical manifest")
    first = {"path": ".hambrel/manifest.json", "type": "file", "mode": 0o644, "mtime": 0, "user": "root", "group": "root", "size": len(manifest)}
    stream = header(first) + padded(manifest)
    need(frames[0] == stream, "frame 0 holds the manifest only")
    seen = {}
    for entry in table["entries"]:
        path = entry["path"].encode()
        need(not seen or path > max(seen, default=b""), "entries ascend")
        parent = path.rpartition(b"/")[0]
        need(not parent or seen[parent]["type"] == "directory", "the directory of an entry comes before it")
        seen[path] = entry
        stream += header(entry)
        if entry["type"] != "file": continue
        need(begins[entry["frame"]] + entry["offset"] == len(stream), f"place of {entry['path']}")
        content = plain[len(stream):len(stream) + entry["size"]]
        need(hashlib.sha256(content).hexdigest() == entry["sha256"], f"content of {entry['path']}")
        print(entry["path"], entry["sha256"])
        stream += padded(content)
    need(plain == stream + bytes(1024), "the plain bytes are the tar stream of the table")
    files = [entry for entry in table["entries"] if entry["type"] != "directory"]
    need(facts["file_count"] == len(files), "file_count")
    need(facts["installed_size"] == sum(entry.get("size", 0) for entry in files), "installed_size")


main(sys.argv[1])
