"""measure.py PROGRAM PARSE_RAW DIR [SIZE...] - times whole processes; see run.sh."""
import glob
import json
import os
import re
import resource
import shutil
import statistics
import subprocess
import sys
import time

program, parse_raw, directory = sys.argv[1:4]
# As it is once it is installed: a linker writes here and there, and the pages of what it wrote lie scattered in the
# page cache, which takes 0.1 to 0.4 ms more of each run.
program = shutil.copy(program, f"{directory}/hambrel")
null = os.open(os.devnull, os.O_WRONLY)


def once(words):
    """Milliseconds, peak KiB and exit code of one process."""
    start = time.perf_counter()
    pid = os.posix_spawn(words[0], words, os.environ,
                         file_actions=[(os.POSIX_SPAWN_DUP2, null, 1), (os.POSIX_SPAWN_DUP2, null, 2)])
    _, status, usage = os.wait4(pid, 0)
    return (time.perf_counter() - start) * 1000, usage.ru_maxrss, os.waitstatus_to_exitcode(status)


def median(words, times=5, before=None):
    runs = []
    for _ in range(times):
        if before:
            before()
        runs.append(once(words))
    return statistics.median(run[0] for run in runs), max(run[1] for run in runs), runs[0][2]


def until_first_line(words):
    start = time.perf_counter()
    with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as process:
        process.stderr.read(1)
        spent = time.perf_counter() - start
        process.stderr.read()
    return spent * 1000


def unit(world):
    """P, measured beside what it is compared with: the machine is not equally fast all the time."""
    return statistics.median(float(subprocess.run([parse_raw, f"{world}/raw.json"], capture_output=True, text=True).stdout)
                             for _ in range(3))


def row(world, what, limit, milliseconds, memory=0, code=0):
    p = unit(world)
    print(f"| {what} | {limit} | {milliseconds:.1f} ms | {milliseconds / p:.2f} P | "
          f"{memory / 1024:.0f} MiB | {p:.0f} ms | {'' if code == 0 else 'exit ' + str(code)} |", flush=True)


def drop_cache(root):
    for pattern in ("var/cache/hambrel/index/*.image", "var/cache/hambrel/index/*/*", "var/lib/hambrel/*.sqlite"):
        for name in glob.glob(f"{root}/{pattern}"):
            fd = os.open(name, os.O_RDONLY)
            os.fsync(fd)
            os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
            os.close(fd)


def plan(root, *words):
    return [program, "--root", root, "install", "--dry-run", "--no-files", *words]


def verbose(words):
    return subprocess.run(words + ["-v"], capture_output=True, text=True)


def steps(words):
    """Milliseconds until the refusal stands, until its first remedy does, and until the end."""
    start = time.perf_counter()
    with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        process.stderr.read(1)
        explained = time.perf_counter()
        rest = process.stderr.read()
        first = time.perf_counter()
        process.stdout.read()
    return [(at - start) * 1000 for at in (explained, first, time.perf_counter())]


def on_a_system_that_is_behind(world, root, names, limits):
    """Installs of the same 300 names: all of them, those that are accepted, and what a refusal and its remedies take."""
    what = os.path.basename(root)
    runs = {name: once(plan(root, name)) for name in names}
    times = sorted(run[0] for run in runs.values())
    accepted = sorted(run[0] for run in runs.values() if run[2] == 0)
    refused = [name for name in names if runs[name][2] == 3]
    row(world, f"install on {what}, {len(names)} packages: median", limits[0], statistics.median(times))
    row(world, "the same: 99th of 100", limits[1], times[int(len(times) * 0.99) - 1])
    row(world, f"the same: 99th of 100 of the {len(accepted)} accepted", "", accepted[int(len(accepted) * 0.99) - 1])
    if not refused:
        return
    parts = [[statistics.median(part) for part in zip(*(steps(plan(root, name)) for _ in range(3)))]
             for name in refused[:20]]
    row(world, f"a refusal: until it is explained ({len(refused)} of {len(names)})", limits[2],
        statistics.median(one[0] for one in parts))
    row(world, "from there to the last remedy", limits[4], statistics.median(one[2] - one[0] for one in parts))


def measure(size):
    world = f"{directory}/{size}"
    current, outdated, large = (f"{world}/{one}" for one in ("current", "outdated", "large"))
    for root in (current, outdated, large):
        subprocess.run([program, "--root", root, "refresh", "-q"], check=True)
    names = open(f"{world}/random.txt").read().split()
    print(f"\n{size} packages\n\n| what | at most | median | ratio | peak | P | |\n|---|---|---|---|---|---|---|")

    runs = [once(plan(current, name)) for name in names]
    times = sorted(run[0] for run in runs)
    row(world, "plan of an install, 300 random packages: median", "0.14 P", statistics.median(times),
        max(run[1] for run in runs))
    row(world, "the same: 99th of 100", "0.34 P", times[int(len(times) * 0.99) - 1])
    cold = [median(plan(current, name), 3, lambda: drop_cache(current))[0] for name in names[:15]]
    row(world, "the same with the page cache dropped, 15 of them", "0.55 P", statistics.median(cold))

    # of what was asked for: the largest closures, and those that change what is installed
    news, closures = [], [f"collection-{i}" for i in range(1, 21)]
    for name in closures:
        text = subprocess.run(plan(current, name), capture_output=True, text=True).stdout
        news.append(int((re.search(r"(\d+) packages? will be installed", text) or [0, 0])[1]))
    runs = [median(plan(current, name), 3) for name in closures]
    row(world, f"the 20 largest closures ({min(news)} to {max(news)} new)", "1.0 P",
        statistics.median(run[0] for run in runs), max(run[1] for run in runs))
    for root, limits in ((outdated, ("0.08 P", "0.5 P", "0.40 P", "0.2 P", "0.4 P")),
                         (large, ("0.1 P", "1.5 P", "1.3 P", "0.6 P", "1.3 P"))):
        on_a_system_that_is_behind(world, root, names, limits)
    for root, limit in ((outdated, "0.45 P"), (large, "1.5 P")):
        upgrade = [program, "--root", root, "upgrade", "--dry-run", "--no-files"]
        count = subprocess.run(upgrade, capture_output=True, text=True).stdout.split("\n")[0]
        time_quiet, memory, code = median(upgrade + ["--quiet"])
        row(world, f"upgrade of {os.path.basename(root)}: {count.split('  ')[0]}", limit, time_quiet, memory, code)
        time_told, memory, code = median(upgrade)
        row(world, "the same with what --drop-strays would bring", "", time_told, memory, code)
    deep = "collection-1"
    for words, limit in ((["why", deep], "0.15 P"), (["needs", deep], "0.15 P"), (["needed-by", "libsalt-0"], "0.15 P"),
                         (["search", "tide"], "0.06 P"), (["list", "name:lib*"], "0.08 P"),
                         (["search", "lorquasto"], "0.08 P"), (["list"], "0.08 P"),
                         (["owner", "--installed", "/usr/share/none"], "0.08 P"),
                         (["owner", "/usr/share/none"], "0.1 P"), (["version"], "")):
        milliseconds, memory, _ = median([program, "--root", current, *words])
        row(world, " ".join(words), limit, milliseconds, memory)

    listed = subprocess.run([program, "--root", current, "list", "--json"], capture_output=True, text=True).stdout
    owned = f"/usr/share/{json.loads(listed.splitlines()[1000])['name']}/part-3/data-70"
    assert subprocess.run([program, "--root", current, "owner", owned], capture_output=True).returncode == 0
    empty, _, _ = median(["/bin/true"], 21)
    for words in (["owner", owned], ["list"]):
        milliseconds, _, _ = median([program, "--root", current, *words], 21)
        print(f"| {words[0]}, 400,000 files, against an empty process of {empty:.2f} ms | 5 | {milliseconds:.1f} ms | "
              f"{milliseconds / empty:.1f} | | | |", flush=True)

    def forget():
        os.remove(f"{current}/var/cache/hambrel/index/_catalogue.image")
    refresh = [program, "--root", current, "refresh"]
    milliseconds, memory, code = median(refresh, 5, forget)
    row(world, "refresh that compiles everything", "6.5 P", milliseconds, memory, code)
    milliseconds, memory, code = median(refresh)
    row(world, "refresh with nothing new", "", milliseconds, memory, code)


resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
for size in [int(one) for one in sys.argv[4:]] or (60000, 300000):
    if os.path.exists(f"{directory}/{size}/random.txt"):
        measure(size)
