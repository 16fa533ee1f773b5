"""What the scripts that measure transactions share: a payload of files at hand, fresh disks, timed runs."""
import os
import random
import shutil
import statistics
import subprocess
import sys
import time

program, directory = sys.argv[1:3]
mount, repository = f"{directory}/disk", f"{directory}/repository"
FILES, BYTES, RUNS = 20000, 600_000_000, int(os.environ.get("RUNS", "5"))


def sh(*words, **options):
    return subprocess.run(words, check=True, stdout=subprocess.DEVNULL, **options)


def timed(*words):
    start = time.perf_counter()
    pid = os.posix_spawnp(words[0], words, os.environ, file_actions=[(os.POSIX_SPAWN_OPEN, 1, "/dev/null", os.O_WRONLY, 0)])
    _, status, usage = os.wait4(pid, 0)
    if os.waitstatus_to_exitcode(status) != 0:
        sys.exit(f"failed: {' '.join(words)}")
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def make_payload(top):
    """Files of this machine, small and large, in their directories."""
    if os.path.exists(f"{top}/usr"):
        return
    chooser = random.Random(1)
    paths = []
    for base in ("/usr/share", "/usr/lib", "/usr/include"):
        for where, _, names in os.walk(base):
            for name in names:
                path = f"{where}/{name}"
                if os.path.isfile(path) and not os.path.islink(path) and os.path.getsize(path) < 8_000_000:
                    paths.append(path)
    paths.sort()
    chooser.shuffle(paths)
    taken, total = [], 0
    large = [p for p in paths if os.path.getsize(p) > 30_000]
    small = [p for p in paths if os.path.getsize(p) <= 30_000]
    while len(taken) < FILES:
        pool = large if large and total < BYTES * len(taken) / FILES else small
        path = (pool or large).pop()
        taken.append(path)
        total += os.path.getsize(path)
    for path in taken:
        os.makedirs(os.path.dirname(top + path), exist_ok=True)
        shutil.copyfile(path, top + path)
        os.chmod(top + path, 0o644)
        os.utime(top + path, (1_700_000_000, 1_700_000_000))
    print(f"payload: {len(taken)} files, {total / 1e6:.0f} MB", flush=True)


def manifest(source, name, version):
    with open(f"{source}/package.toml", "w") as out:
        out.write(f'name = "{name}"\nversion = "{version}"\narch = "independent"\nsummary = "payload"\n')


def change(source, to, share, clustered):
    """A copy in which some of the files are changed: links to the rest."""
    if os.path.exists(to):
        return
    sh("cp", "-al", source, to)
    files = sorted(os.path.join(where, name) for where, _, names in os.walk(f"{to}/root") for name in names)
    count = int(len(files) * share)
    chosen = files[len(files) // 3:][:count] if clustered else files[::len(files) // count][:count]
    for path in chosen:
        data = open(path, "rb").read()
        os.remove(path)
        with open(path, "wb") as out:
            out.write(data[: len(data) // 2] + b"changed" + data[len(data) // 2:])
        os.utime(path, (1_700_000_500, 1_700_000_500))
    os.remove(f"{to}/package.toml")


MAKE = {"ext4": ("mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0"), "xfs": ("mkfs.xfs", "-q", "-f"),
        "btrfs": ("mkfs.btrfs", "-q", "-f")}


class Disk:
    """A fresh file system, mounted: of the kind that FS says, tmpfs too."""

    def __init__(self, gibibytes=6):
        self.gibibytes = gibibytes
        self.kind = os.environ.get("FS", "ext4")

    def __enter__(self):
        os.makedirs(mount, exist_ok=True)
        if self.kind == "tmpfs":
            sh("mount", "-t", "tmpfs", "-o", f"size={self.gibibytes}G", "bench", mount)
            return mount
        image = f"{directory}/image"
        if os.path.exists(image):
            os.remove(image)
        sh("truncate", "-s", f"{self.gibibytes}G", image)
        sh(*MAKE[self.kind], image)
        sh("mount", "-o", "loop", image, mount)
        return mount

    def __exit__(self, *_):
        sh("umount", mount)


def hambrel(root, *words):
    return timed(program, "--root", root, *words, "-y", "-q")


def sync():
    subprocess.run(["sync", "-f", mount], check=True)


def row(what, limit, times, against, memory=0.0):
    mine, other = statistics.median(times), statistics.median(against)
    print(f"| {what} | {limit} | {mine * 1000:.0f} ms | {mine / other:.3f} | {memory:.0f} MiB |", flush=True)


def prepare(disk, name, spec):
    """Everything that is fetched lies in the cache."""
    subprocess.run([program, "--root", disk, "repo", "add", name, f"file://{repository}-{name}", "--unsigned"], check=True,
                   stdout=subprocess.DEVNULL)
    subprocess.run([program, "--root", disk, "refresh", "-q"], check=True)
    hambrel(disk, "install", spec, "--download-only")
    sync()
