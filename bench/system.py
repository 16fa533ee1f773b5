"""system.py PROGRAM DIR - see system.sh."""
import multiprocessing
import os
import random
import shutil

from workbench import *

PACKAGES, FILES_OF_ONE, BYTES_IN_ALL, LARGEST = int(os.environ.get("PACKAGES", "560")), 220, 4 << 30, 64 << 20
UPGRADED, CHANGED = 300, 0.10  # packages of which there is a second version, and how many of its files are others
UNIT = 1_700_000_000


def chunks_of_this_machine():
    """Lists of about as many files as a package has, whole directories each."""
    chunk = []
    for top in ("/usr", "/opt", "/root/.pyenv"):
        for where, directories, names in os.walk(top):
            directories.sort()
            for name in sorted(names):
                path = f"{where}/{name}"
                if os.path.islink(path) or (os.path.isfile(path) and os.path.getsize(path) <= LARGEST):
                    chunk.append(path)
            if len(chunk) >= FILES_OF_ONE:
                yield chunk
                chunk = []


def copy(path, to):
    os.makedirs(os.path.dirname(to), exist_ok=True)
    if os.path.islink(path):
        os.symlink(os.readlink(path), to)
        return
    shutil.copyfile(path, to)
    os.chmod(to, 0o755 if os.access(path, os.X_OK) else 0o644)
    os.utime(to, (UNIT, UNIT))


def pack(job):
    number, version, top = job
    name = f"part-{number:04}"
    manifest(top, name, version)
    place = f"{repository}-{'next' if version == '2' else 'system'}/packages/{name}"
    os.makedirs(place, exist_ok=True)
    sh(program, "pack", "-q", "--level", "6", top, "-o", f"{place}/{version}.independent.hambrel")


def second_version(number):
    first, second = f"{directory}/system/{number}", f"{directory}/system/{number}-2"
    sh("cp", "-al", first, second)
    os.remove(f"{second}/package.toml")
    files = sorted(os.path.join(where, name) for where, _, names in os.walk(f"{second}/root") for name in names
                   if not os.path.islink(os.path.join(where, name)))
    for path in files[::round(1 / CHANGED)]:
        data = open(path, "rb").read()
        os.remove(path)
        with open(path, "wb") as out:
            out.write(data[:len(data) // 2] + b"changed" + data[len(data) // 2:])
        os.utime(path, (UNIT + 500, UNIT + 500))
    return number, "2", second


def make_system():
    if os.path.exists(f"{repository}-system/index"):
        return
    chunks = list(chunks_of_this_machine())
    random.Random(5).shuffle(chunks)
    jobs, files, size = [], 0, 0
    for number, chunk in enumerate(chunks):
        if number >= PACKAGES and (size >= BYTES_IN_ALL or "PACKAGES" in os.environ):
            break
        top = f"{directory}/system/{number}"
        for path in chunk:
            copy(path, f"{top}/root{path}")
            size += 0 if os.path.islink(path) else os.path.getsize(path)
        files += len(chunk)
        jobs.append((number, "1", top))
    print(f"payload: {len(jobs)} packages, {files} files, {size / 2**30:.1f} GiB", flush=True)
    with multiprocessing.Pool() as pool:
        pool.map(pack, jobs, 1)
        pool.map(pack, pool.map(second_version, range(min(UPGRADED, len(jobs))), 4), 1)
    for name, numbers in (("system", range(len(jobs))), ("next", range(min(UPGRADED, len(jobs))))):
        whole = f"{directory}/whole"
        os.makedirs(whole)
        for number in numbers:
            sh("cp", "-al", f"{directory}/system/{number}{'-2' if name == 'next' else ''}/root/.", whole)
        sh("sh", "-c", f"tar -C {whole} -c . | zstd -q -6 -T0 -f -o {directory}/{name}.tar.zst")
        shutil.rmtree(whole)
        sh(program, "publish", "-q", f"{repository}-{name}")


KEYS = ("tar", "install", "plan", "undo", "cp", "some", "upgrade", "verify", "sha", "fast", "find",
        "install-into", "plan-into", "undo-into")


def measure():
    times = {key: [] for key in KEYS}
    memory = dict.fromkeys(KEYS, 0.0)

    def note(key, result):
        times[key].append(result[0])
        memory[key] = max(memory[key], result[1])

    for _ in range(RUNS):
        with Disk(24) as disk:
            os.makedirs(f"{disk}/tar")
            note("tar", timed("sh", "-c", f"tar -C {disk}/tar --zstd -xf {directory}/system.tar.zst && sync -f {disk}"))
            note("sha", timed("sh", "-c", f"cd {disk}/tar && find . -type f -print0 | xargs -0 -n 200 -P $(nproc) sha256sum"))
            note("find", timed("sh", "-c", f"find {disk}/tar -printf '%p %s %T@ %m %u\\n'"))
            note("cp", timed("sh", "-c", f"cp -a {disk}/tar {disk}/copy && sync -f {disk}"))
            sh("sh", "-c", f"cd {disk}/tar && find . -type d -print0 > {directory}/directories")
        with Disk(24) as disk:
            os.makedirs(f"{disk}/tar")
            note("some", timed("sh", "-c", f"tar -C {disk}/tar --zstd -xf {directory}/next.tar.zst && sync -f {disk}"))
        with Disk(24) as disk:
            prepare(disk, "system", "part-*")
            note("install", hambrel(disk, "install", "part-*"))
            note("verify", hambrel(disk, "verify"))
            note("fast", hambrel(disk, "verify", "--fast"))
            note("plan", hambrel(disk, "undo", "last", "--dry-run"))
            sync()
            note("undo", hambrel(disk, "undo", "last"))
            hambrel(disk, "install", "part-*")
            prepare(disk, "next", "part-0000")
            hambrel(disk, "upgrade", "--download-only")
            sync()
            note("upgrade", hambrel(disk, "upgrade"))
        with Disk(24) as disk:
            prepare(disk, "system", "part-*")
            sh("sh", "-c", f"cd {disk} && xargs -0 mkdir -p < {directory}/directories")
            sync()
            note("install-into", hambrel(disk, "install", "part-*"))
            note("plan-into", hambrel(disk, "undo", "last", "--dry-run"))
            sync()
            note("undo-into", hambrel(disk, "undo", "last"))
    return times, memory


if __name__ == "__main__":
    make_system()
    print("| what | at most | median | ratio | peak |\n|---|---|---|---|---|")
    times, memory = measure()
    row("tar --zstd -xf and sync", "", times["tar"], times["tar"])
    row("install of the whole system", "0.60", times["install"], times["tar"], memory["install"])
    row("undo of it, against cp -a", "0.02", times["undo"], times["cp"], memory["undo"])
    row("planning that undo (seconds, not a ratio: 0.3)", "", times["plan"], times["plan"], memory["plan"])
    row(f"an upgrade of {UPGRADED} packages, against tar of them", "0.60", times["upgrade"], times["some"], memory["upgrade"])
    row("verify, against sha256sum on all processors", "1.0", times["verify"], times["sha"], memory["verify"])
    row("verify --fast, against find -printf", "1.5", times["fast"], times["find"], memory["fast"])
    print("where all directories are there already, so that each file is a move of its own:")
    row("install of the whole system", "", times["install-into"], times["tar"], memory["install-into"])
    row("undo of it, against cp -a", "", times["undo-into"], times["cp"], memory["undo-into"])
    row("planning that undo (seconds)", "", times["plan-into"], times["plan-into"], memory["plan-into"])
