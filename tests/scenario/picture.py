"""picture.py FILE.png: prints its width, its height and how many colours it has, read by the standard (RFC 2083)."""
import struct
import sys
import zlib

data = open(sys.argv[1], "rb").read()
assert data[:8] == b"\x89PNG\r\n\x1a\n", "no PNG"
at, pixels = 8, b""
while at < len(data):
    length, kind = struct.unpack_from(">I4s", data, at)
    body = data[at + 8:at + 8 + length]
    assert struct.unpack_from(">I", data, at + 8 + length)[0] == zlib.crc32(kind + body), "a damaged chunk"
    if kind == b"IHDR":
        width, height, depth, colour = struct.unpack_from(">IIBB", body)
        assert (depth, colour) == (8, 2), "not 8 bits of red, green and blue"
    if kind == b"IDAT":
        pixels += body
    at += 12 + length
rows, size = zlib.decompress(pixels), 3 * width
colours, before = set(), bytearray(size)
for y in range(height):
    kind, line = rows[y * (size + 1)], bytearray(rows[y * (size + 1) + 1:(y + 1) * (size + 1)])
    for i in range(size):
        left, up, corner = (line[i - 3] if i > 2 else 0), before[i], (before[i - 3] if i > 2 else 0)
        if kind == 1:
            line[i] = (line[i] + left) & 255
        elif kind == 2:
            line[i] = (line[i] + up) & 255
        elif kind == 3:
            line[i] = (line[i] + (left + up) // 2) & 255
        elif kind == 4:
            guess = left + up - corner
            near = min((abs(guess - left), 0, left), (abs(guess - up), 1, up), (abs(guess - corner), 2, corner))[2]
            line[i] = (line[i] + near) & 255
    colours.update(bytes(line[i:i + 3]) for i in range(0, size, 3))
    before = line
print(width, height, len(colours))
