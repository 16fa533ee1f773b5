"""endurance.py PROGRAM kill|cut|full|thin [COUNT] [ext4|xfs [large]] - see run.sh. The checker below is code of its own: it reads the
disk and the database, and shares nothing with the program."""
import fcntl
import hashlib
import os
import random
import shutil
import signal
import sqlite3
import stat
import struct
import subprocess
import sys
import tempfile
import time

program, way = sys.argv[1:3]
count = int(sys.argv[3]) if len(sys.argv) > 3 else 300
kind = sys.argv[4] if len(sys.argv) > 4 else "ext4"
LARGE = 2_000_000 if sys.argv[5:] == ["large"] and way != "full" else 0  # bytes that each file of the first package has more
if way == "thin":
    LARGE = 4_000_000  # something must be written back while it is staged
SHUTDOWN, WITHOUT_LOG = 0x8004587D, b"\x02\0\0\0"  # FS_IOC_SHUTDOWN of ext4 and xfs
choose = random.Random(int(os.environ.get("SEED", "1")))
work = tempfile.mkdtemp(prefix="hambrel-endurance-")
store, disk = f"{work}/store", f"{work}/disk"
image = f"{store}/image"
OWN = ("var/lib/hambrel", "var/cache", "etc/hambrel", "lost+found", "filler")


def sh(*words):
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL)


def hambrel(*words):
    ran = subprocess.run([program, "--root", disk, *words], capture_output=True, text=True)
    assert ran.returncode == 0, f"{' '.join(words[:2])}: exit {ran.returncode}: {ran.stderr}"


def mount():
    sh("mount", "-o", "loop,discard" if way == "thin" else "loop", image, disk)


def fill_store():
    """What the disk lies on is full: what the kernel writes back now is lost, and said only once."""
    with open(f"{store}/filler", "wb") as out:
        for _ in range(20):  # others write meanwhile
            free = os.statvfs(store).f_bavail * os.statvfs(store).f_frsize
            try:
                os.posix_fallocate(out.fileno(), out.seek(0, 2), max(4096, free - 65536))
                break
            except OSError:
                continue


def pack_everything():
    """Two versions of 20 packages: files, links, directories that become files, configuration."""
    for version in (1, 2):
        for i in range(20):
            source = f"{work}/source"
            shutil.rmtree(source, ignore_errors=True)
            top = f"{source}/root/usr/share/p{i}"
            os.makedirs(top)
            for k in range(12):
                keep = k % 3 == 0  # the same in both versions
                with open(f"{top}/f{k}", "wb") as out:
                    size = 300 * (k + 1) * (k + 1) + (LARGE * k if i == 0 else 0)
                    out.write(random.Random(f"{i} {k} {1 if keep else version}").randbytes(size))
            os.symlink("f1", f"{top}/link")
            os.link(f"{top}/f2", f"{top}/hard")
            if version == 1:
                os.makedirs(f"{top}/kind")
                open(f"{top}/kind/inner", "w").write("inner")
            else:
                open(f"{top}/kind", "w").write("a file now")
            os.makedirs(f"{source}/root/etc")
            open(f"{source}/root/etc/p{i}.conf", "w").write(f"version = {version}\n")
            with open(f"{source}/package.toml", "w") as out:
                out.write(f'name = "p{i}"\nversion = "{version}"\narch = "independent"\nsummary = "p"\n'
                          f'[config]\nfiles = ["etc/**"]\n')
            os.makedirs(f"{work}/repository/packages/p{i}", exist_ok=True)
            sh(program, "pack", "-q", source, "-o", f"{work}/repository/packages/p{i}/{version}.independent.hambrel")
    sh(program, "publish", f"{work}/repository")


def files_of(data):
    """The list of a package's files as the state keeps it (src/core/model/file_list.h), read anew here."""
    _, count, owners, _ = struct.unpack_from("<4I", data)
    texts = 16 + 72 * count + 8 * owners
    for i in range(count):
        start, path, target, _, _, mode, type_, _, _, mtime, size, digest = struct.unpack_from(
            "<IHHIIHBBIqQ32s", data, 16 + 72 * i)
        start += texts
        yield (data[start:start + path].decode(), type_, mode, mtime, size, digest,
               data[start + path:start + path + target].decode())


def check():
    """The disk is what the database says, and nothing else. Returns what is installed."""
    database = sqlite3.connect(f"file:{disk}/var/lib/hambrel/state.sqlite?mode=ro", uri=True)
    assert database.execute("PRAGMA integrity_check").fetchall() == [("ok",)], "the database is damaged"
    assert database.execute("SELECT count(*) FROM journal").fetchone() == (0,), "a journal stands"
    lists = database.execute(
        "SELECT p.slot, l.list FROM lists l JOIN packages p ON p.id = l.package AND p.state = 'installed'").fetchall()
    files = [(slot, *file) for slot, data in lists for file in files_of(data)]
    index = database.execute("SELECT slot FROM paths UNION ALL SELECT slot FROM more_paths").fetchall()
    assert sorted(slot for slot, in index) == sorted(file[0] for file in files), "the index is not that of the files"
    known = set()
    for _, path, type_, mode, mtime, size, digest, target in files:
        known.add(path)
        info = os.lstat(f"{disk}/{path}")
        if type_ == 0:
            assert stat.S_ISREG(info.st_mode) and info.st_size == size, f"{path}: not the file"
            assert hashlib.sha256(open(f"{disk}/{path}", "rb").read()).digest() == digest, f"{path}: other content"
            assert stat.S_IMODE(info.st_mode) == mode and int(info.st_mtime) == mtime, f"{path}: other mode or time"
        elif type_ == 1:
            assert stat.S_ISDIR(info.st_mode), f"{path}: not a directory"
        elif type_ == 2:
            assert os.readlink(f"{disk}/{path}") == target, f"{path}: another link"
        else:
            assert info.st_ino == os.lstat(f"{disk}/{target}").st_ino, f"{path}: not the same file as {target}"
    for where, directories, names in os.walk(disk):
        for name in directories + names:
            path = os.path.relpath(f"{where}/{name}", disk)
            if not any(path == own or path.startswith(own + "/") or own.startswith(path + "/") for own in OWN):
                assert path in known or path == "usr/share" or path in ("usr", "etc"), f"{path}: belongs to nobody"
    stage = f"{disk}/var/lib/hambrel/stage"
    assert not os.path.exists(stage) or not os.listdir(stage), "something is left in the stage"
    installed = database.execute("SELECT name, version FROM packages WHERE state = 'installed' ORDER BY name").fetchall()
    last = database.execute("SELECT max(id) FROM ledger WHERE result = 'done'").fetchone()[0]
    database.close()
    return installed, last


def next_command(installed, last):
    """A change that is possible now."""
    versions = {version for _, version in installed}
    if not installed:
        return ["install", "p*<2"]
    ways = [["remove", "p*"]]
    if versions == {"1"}:
        ways += [["upgrade"], ["upgrade"]]
    if last is not None and undoable[0] != last:
        ways += [["undo", str(last)]]
    return choose.choice(ways)


signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))  # unmounts on the way out
undoable = [None]  # the last transaction that was itself an undo
try:
    os.makedirs(disk)
    os.makedirs(store)
    if way == "thin":
        sh("mount", "-t", "tmpfs", "-o", "size=3G", "tmpfs", store)
    sh("truncate", "-s", "2G" if way == "thin" else "12G" if LARGE else "400M", image)
    if kind == "xfs" and shutil.which("mkfs.xfs") is None:
        print("skipped: mkfs.xfs is not here")
        sys.exit(0)
    sh(*(["mkfs.xfs", "-q", image] if kind == "xfs" else ["mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0", image]))
    try:
        mount()
    except subprocess.CalledProcessError:
        print("skipped: this process may not mount loop devices")
        sys.exit(0)
    pack_everything()
    hambrel("repo", "add", "base", f"file://{work}/repository", "--unsigned")
    hambrel("refresh")
    hambrel("install", "-y", *[f"p{i}=1" for i in range(20)])
    hambrel("upgrade", "-y")
    hambrel("remove", "-y", *[f"p{i}" for i in range(20)])
    sh("sync", "-f", disk)
    before, last = check()
    bad = finished = taken_back = 0
    took = 0.4
    for n in range(count):
        command = next_command(before, last)
        if command[0] == "install":
            command = ["install"] + [f"p{i}=1" for i in range(20)]
        elif command[0] == "remove":
            command = ["remove"] + [f"p{i}" for i in range(20)]
        started = time.time()
        if way == "full":
            free = os.statvfs(disk).f_bavail * os.statvfs(disk).f_frsize
            keep = 200_000 * (n % 60)
            with open(f"{disk}/filler", "wb") as out:
                os.posix_fallocate(out.fileno(), 0, max(4096, free - free // 50 - keep))  # directories take a little
        if way == "thin":
            sh("sync", "-f", disk)
            sh("fstrim", disk)
            fill_store()
        process = subprocess.Popen([program, "--root", disk, *command, "-y"], stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)
        if way == "full":
            process.wait()
            os.remove(f"{disk}/filler")
        elif way == "thin":
            time.sleep(0.2 + 0.8 * choose.random())
            os.remove(f"{store}/filler")
            process.wait()
        else:
            time.sleep(choose.random() * took * 1.1)
            if way == "cut":
                handle = os.open(disk, os.O_RDONLY)
                fcntl.ioctl(handle, SHUTDOWN, WITHOUT_LOG)
                os.close(handle)
            process.send_signal(signal.SIGKILL)
            if process.wait() == 0:
                took = 0.9 * took + 0.1 * (time.time() - started)
            else:
                took = min(1.5, took * 1.02)
        if way in ("cut", "thin"):
            sh("umount", disk)
            if way == "thin":  # the file system's own tables may have been hit, too
                subprocess.run(["e2fsck", "-fy", image], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            mount()
        try:
            hambrel("recover")
            after, last_now = check()
            assert way != "thin" or process.returncode != 0 or last_now != last, "said to be done, and is not"
            if after == before and last_now == last:
                taken_back += 1
            else:
                finished += 1
                undoable[0] = last_now if command[0] == "undo" else undoable[0]
            before, last = after, last_now
            if (n + 1) % 100 == 0:
                print(f"{n + 1} cases, none bad so far", flush=True)
        except AssertionError as problem:
            bad += 1
            print(f"case {n}: {' '.join(command[:2])}: {problem}", flush=True)
            break
    print(f"{way} on {kind}: {finished + taken_back} cases, {taken_back} as before, {finished} as planned, {bad} bad")
    sys.exit(1 if bad else 0)
finally:
    subprocess.run(["umount", disk], stderr=subprocess.DEVNULL)
    subprocess.run(["umount", store], stderr=subprocess.DEVNULL)
    shutil.rmtree(work, ignore_errors=True)
