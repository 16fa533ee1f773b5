"""What an ELF file needs: its interpreter and libraries (System V gABI, chapters 4 and 5), for 64-bit machines."""
import os
import struct

PT_LOAD, PT_DYNAMIC, PT_INTERP = 1, 2, 3
DT_NULL, DT_NEEDED, DT_STRTAB = 0, 1, 5


def needs(path):
    """(interpreter or None, [names of libraries]) of a file; (None, []) where it is no ELF file."""
    with open(path, "rb") as file:
        data = file.read()
    if data[:4] != b"\x7fELF" or data[4] != 2:
        return None, []
    table, = struct.unpack_from("<Q", data, 32)
    size, count = struct.unpack_from("<HH", data, 54)
    segments = [struct.unpack_from("<IIQQQQ", data, table + i * size) for i in range(count)]

    def at(address):
        for kind, _, offset, virtual, _, in_file in segments:
            if kind == PT_LOAD and virtual <= address < virtual + in_file:
                return offset + address - virtual
        raise ValueError(f"{path}: address {address:#x} is in no segment")

    def text(offset):
        return data[offset:data.index(b"\0", offset)].decode()

    interpreter, names, strings = None, [], None
    for kind, _, offset, _, _, in_file in segments:
        if kind == PT_INTERP:
            interpreter = text(offset)
        if kind != PT_DYNAMIC:
            continue
        for entry in range(offset, offset + in_file, 16):
            tag, value = struct.unpack_from("<qQ", data, entry)
            if tag == DT_NULL:
                break
            if tag == DT_NEEDED:
                names.append(value)
            if tag == DT_STRTAB:
                strings = at(value)
    return interpreter, [text(strings + name) for name in names]


def library(name, beside):
    """Where the machine has a library; `beside`: a file of the same system."""
    triplet = os.path.dirname(os.path.realpath(beside))
    for directory in (triplet, "/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu", "/usr/lib64", "/usr/lib"):
        path = os.path.join(directory, name)
        if os.path.exists(path):
            return path
    raise FileNotFoundError(name)
