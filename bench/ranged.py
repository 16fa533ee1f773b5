"""ranged.py PROGRAM DIR [FILES] - what an upgrade fetches of a package of which 3 % of the files have changed, evenly and
beside each other, and how long it takes over a link of 20 Mbit/s, against the whole package. In a network namespace of
its own; bytes are all that goes over its loopback link, requests and acknowledgements too. Medians of 5 pairs."""
import os
import random
import shutil
import statistics
import subprocess
import sys
import time

if "inside" not in sys.argv:
    sys.exit(subprocess.run(["unshare", "--net", sys.executable, *sys.argv, "inside"]).returncode)
sys.argv.remove("inside")
program, directory = sys.argv[1:3]
count = int(sys.argv[3]) if len(sys.argv) > 3 else 1000
source = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
repo, run = (os.path.join(directory, name) for name in ("repo", "nginx"))
words = [bytes(random.Random(i).choices(b"abcdefghijklmnopqrstuvwxyz", k=3 + i % 8)) for i in range(20_000)]


def content(seed):
    """As the files of packages are: many small ones, a few great ones, text that shrinks to about half."""
    chance = random.Random(seed)
    size = min(int(chance.lognormvariate(9.4, 1.2)), 4 << 20)  # half of them below 12 KiB; 25 KiB on the average
    return b" ".join(chance.choices(words, k=size // 8 + 1))[:size]


def pack(version, changed):
    tree = os.path.join(directory, "src")
    shutil.rmtree(tree, ignore_errors=True)
    os.makedirs(f"{tree}/root/usr/share/chart")
    for i in range(count):
        with open(f"{tree}/root/usr/share/chart/{i:05}", "wb") as out:
            out.write(content(i + (1_000_000 if i in changed else 0)))
        os.utime(f"{tree}/root/usr/share/chart/{i:05}", (1_700_000_000, 1_700_000_000))
    with open(f"{tree}/package.toml", "w") as out:
        out.write(f'name = "chart"\nversion = "{version}"\narch = "independent"\nsummary = "sea chart"\n')
    to = f"{repo}/packages/chart/{version}.independent.hambrel"
    os.makedirs(os.path.dirname(to), exist_ok=True)
    subprocess.run([program, "pack", "-q", tree, "-o", to], check=True)
    return os.path.getsize(to)


def sent():
    with open("/proc/net/dev") as counters:
        return int(next(line for line in counters if line.strip().startswith("lo:")).split()[9])


def upgrade(version):
    root = f"{directory}/root"
    shutil.rmtree(root, ignore_errors=True)
    shutil.copytree(f"{directory}/before", root, symlinks=True)
    subprocess.run([program, "--root", root, "-q", "refresh"], check=True)
    bytes_before, start = sent(), time.perf_counter()
    subprocess.run([program, "--root", root, "-q", "install", f"chart={version}", "-y"], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start, sent() - bytes_before


def whole(version):
    bytes_before, start = sent(), time.perf_counter()
    subprocess.run(["curl", "-sS", "-o", "/dev/null", f"{url}/packages/chart/{version}.independent.hambrel"], check=True)
    return time.perf_counter() - start, sent() - bytes_before


shutil.rmtree(directory, ignore_errors=True)
few = max(1, count * 3 // 100)
pack("1-1", set())
sizes = {"2-1": pack("2-1", {i * count // few for i in range(few)}), "3-1": pack("3-1", set(range(count // 2, count // 2 + few)))}
subprocess.run([program, "publish", "-q", repo], check=True)
for command in (["ip", "link", "set", "lo", "up", "mtu", "1500"], ["tc", "qdisc", "add", "dev", "lo", "root", "tbf", "rate", "20mbit", "burst", "16kb", "latency", "200ms"]):
    subprocess.run(command, check=True)
url = subprocess.run([f"{source}/tests/scenario/nginx.sh", repo, run], check=True, capture_output=True, text=True).stdout.strip()
try:
    os.makedirs(f"{directory}/before/etc/hambrel")
    subprocess.run([program, "--root", f"{directory}/before", "-q", "repo", "add", url, "bench", "--unsigned"], check=True)
    subprocess.run([program, "--root", f"{directory}/before", "-q", "install", "chart=1-1", "-y"], check=True, stdout=subprocess.DEVNULL)
    shutil.rmtree(f"{directory}/before/var/cache/hambrel/packages", ignore_errors=True)
    for version, what in (("2-1", "evenly"), ("3-1", "beside each other")):
        pairs = [(upgrade(version), whole(version)) for _ in range(5)]
        ours, theirs = statistics.median(a[0] for a, _ in pairs), statistics.median(b[0] for _, b in pairs)
        part = statistics.median(a[1] for a, _ in pairs) / sizes[version]
        print(f"{count} files, {few} changed {what}: {part:.3f} of its {sizes[version] >> 10} KiB; "
              f"{ours:.2f} s, whole {theirs:.2f} s, ratio {statistics.median(a[0] / b[0] for a, b in pairs):.2f}", flush=True)
finally:
    with open(f"{run}/nginx.pid") as pid:
        os.kill(int(pid.read()), 15)
