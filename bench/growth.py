"""growth.py PROGRAM DIR - see growth.sh."""
from system import *

COUNTS = (20, 70, 140, 200, 280, 500, 560)  # packages: three sizes of a system, and a quarter, a half and all of its files
WIDTH, HEIGHT, LEFT, TOP, GAP = 420, 240, 56, 40, 60


def names(count):
    return [f"part-{number:04}" for number in range(count)]


def files_below(disk):
    return sum(len(found) for where, _, found in os.walk(disk) if not where.startswith(f"{disk}/var/"))


def measure_growth():
    points = []
    for count in COUNTS:
        times, peak = [], 0.0
        for _ in range(RUNS):
            with Disk(24) as disk:
                prepare(disk, "system", "part-*")
                time, memory = hambrel(disk, "install", *names(count))
                times.append(time)
                peak = max(peak, memory)
                files = files_below(disk)
        points.append((count, files, statistics.median(times), peak))
        print(f"| {count} | {files} | {points[-1][2]:.2f} s | {peak:.0f} MiB |", flush=True)
    return points


def panel(left, title, unit, values, files):
    """Axes from 0, the points, and the straight line through 0 and the last one."""
    most_x, most_y = max(files) * 1.05, max(values) * 1.15
    x = lambda value: left + LEFT + value / most_x * WIDTH
    y = lambda value: TOP + HEIGHT - value / most_y * HEIGHT
    parts = [f'<text x="{left + LEFT}" y="{TOP - 16}" class="title">{title}</text>']
    step = 10 ** (len(str(int(most_y))) - 1)
    step = step if most_y / step < 6 else 2 * step
    for value in range(0, int(most_y) + 1, max(1, int(step))):
        parts.append(f'<line x1="{x(0):.1f}" x2="{x(most_x):.1f}" y1="{y(value):.1f}" y2="{y(value):.1f}" class="grid"/>'
                     f'<text x="{x(0) - 8:.1f}" y="{y(value) + 4:.1f}" class="end">{value} {unit}</text>')
    for value in range(0, int(most_x), 50000):
        parts.append(f'<text x="{x(value):.1f}" y="{TOP + HEIGHT + 18}" class="mid">{value:,}{" files" if value else ""}</text>')
    parts.append(f'<line x1="{x(0):.1f}" y1="{y(0):.1f}" x2="{x(files[-1]):.1f}" y2="{y(values[-1]):.1f}" class="straight"/>')
    parts.append('<polyline class="curve" points="' + " ".join(f"{x(a):.1f},{y(b):.1f}" for a, b in zip(files, values)) + '"/>')
    parts += [f'<circle cx="{x(a):.1f}" cy="{y(b):.1f}" r="3.5"/>' for a, b in zip(files, values)]
    return "\n".join(parts)


def draw(points, path):
    _, files, times, peaks = zip(*points)
    whole_width = 2 * (LEFT + WIDTH) + GAP + 16
    with open(path, "w") as out:
        out.write(f'<svg xmlns="http://www.w3.org/2000/svg" width="{whole_width}" height="{TOP + HEIGHT + 36}">\n'
                  '<style>text{font:12px Inter,"DejaVu Sans",sans-serif;fill:#5a6878}.title{font-weight:650;font-size:14px;fill:#1d2733}'
                  '.end{text-anchor:end}.mid{text-anchor:middle}.grid{stroke:#e1e6ec}.straight{stroke:#6b7887;stroke-dasharray:4 4}'
                  '.curve{fill:none;stroke:#1f5fa8;stroke-width:2}circle{fill:#1f5fa8}</style>\n'
                  '<rect width="100%" height="100%" fill="#fff"/>\n')
        out.write(panel(0, "Time of an install", "s", times, files) + "\n")
        out.write(panel(LEFT + WIDTH + GAP, "Its peak memory", "MiB", peaks, files) + "\n</svg>\n")


if __name__ == "__main__":
    make_system()
    print("| packages | files | median | peak memory |\n|---|---|---|---|")
    draw(measure_growth(), "docs/growth.svg")
