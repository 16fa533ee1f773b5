"""shapes.py PROGRAM DIR [SHAPE...] - how the processor time of each command grows when there is four times as much of:
packages with configuration in directories that others have too, files of one package, packages that require or
provide the same or each other, packages with accounts and candidates, transactions. What takes more than 0.1 s in the
end is told, and marked where it took more than 1.3 times four times as much: something is looked for in all for each
one. DIR is best on a tmpfs. FACTOR=N: instead of 4."""
import os
import re
import resource
import shutil
import subprocess
import sys

program, directory = sys.argv[1:3]
FACTOR = int(os.environ.get("FACTOR", "4"))
LEAST, TOO_MUCH = 0.1, 1.3
EXPECTED = (0, 3, 11)  # done, refused, damage was found


def spent():
    """Seconds of the processors, by all that has ended."""
    usage = resource.getrusage(resource.RUSAGE_CHILDREN)
    return usage.ru_utime + usage.ru_stime


class Shape:
    """A repository and a root, and what each command took there."""

    def __init__(self, name, count):
        self.top = os.path.join(directory, f"{name}-{count}")
        shutil.rmtree(self.top, ignore_errors=True)
        self.repository, self.root = f"{self.top}/repository", f"{self.top}/root"
        for there in ("usr/bin", "usr/share", "usr/lib", "etc"):
            os.makedirs(f"{self.root}/{there}")
        self.seconds = {}

    def timed(self, what, *words):
        start = spent()
        ran = subprocess.run(words, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        self.seconds[what] = self.seconds.get(what, 0) + spent() - start
        if ran.returncode not in EXPECTED:
            sys.exit(f"failed with {ran.returncode}: {' '.join(words)}\n{ran.stdout.decode(errors='replace')[-2000:]}")

    def pack(self, name, version="1", more="", files=()):
        source = f"{self.top}/source"
        shutil.rmtree(source, ignore_errors=True)
        os.makedirs(f"{source}/root")
        for path, content in dict(files).items():
            os.makedirs(os.path.dirname(f"{source}/root/{path}"), exist_ok=True)
            with open(f"{source}/root/{path}", "w") as out:
                out.write(content)
        with open(f"{source}/package.toml", "w") as out:
            out.write(f'name = "{name}"\nversion = "{version}"\narch = "independent"\nsummary = "{name}"\n{more}')
        os.makedirs(f"{self.repository}/packages/{name}", exist_ok=True)
        self.timed("pack", program, "pack", "-q", "--level", "1", source, "-o",
                   f"{self.repository}/packages/{name}/{version}.independent.hambrel")

    def publish(self):
        self.timed("publish", program, "publish", "-q", self.repository)
        if not os.path.exists(f"{self.root}/etc/hambrel/repos/own.toml"):
            self("repo", "add", f"file://{self.repository}", "own", "--unsigned")
        self("refresh")

    def __call__(self, *words):
        self.timed(re.sub(r"\d{2,}", "N", " ".join(words)).replace(self.top, ""), program, "--root", self.root, "-q", *words)

    def look(self, name):
        for words in ("list", "verify", "verify --fast", "ledger", "ledger show last", "ledger show last --json", "configs",
                      f"files {name}", f"describe {name}", f"why {name}", f"needed-by {name}", "tidy --dry-run",
                      f"report -o {self.top}/report.html"):
            self(*words.split())


def edit(path):
    with open(path, "a") as out:
        out.write("edited\n")


def wide(count):
    shape = Shape("wide", count)
    for version in "12":
        for i in range(count):
            files = {f"usr/share/{i}-{k}": f"{i} {k} {version}" for k in range(10)}
            moved = "etc" if version == "1" else "etc/new"
            files |= {f"{moved}/{i}-{k}.conf": f"{i} {k}" for k in range(3)} | {f"etc/{i}.conf": version}
            shape.pack(f"part-{i}", version, '[config]\nfiles = ["etc/**"]\n', files)
        shape.publish()
        if version == "1":
            shape("install", "part-*", "-y")
    for i in range(0, count, 2):
        edit(f"{shape.root}/etc/{i}.conf")
        os.unlink(f"{shape.root}/usr/share/{i}-1")
    shape("verify")
    shape("repair", "-y")
    shape("upgrade", "--dry-run")
    shape("upgrade", "-y", "--configs", "wait")
    shape.look("part-1")
    shape("configs", "settle", "-y", "--configs", "take")
    shape("undo", "last", "--dry-run")
    shape("rollback", "1", "--dry-run")
    shape("rollback", "1", "-y")
    shape("remove", "part-*", "-y")
    shape("undo", "last", "-y")
    return shape


def one(count):
    shape = Shape("one", count)
    for version in "12":
        where = "etc/c" if version == "1" else "etc/d"
        files = {f"usr/share/d/{k}": f"{k} {version if k % 3 == 0 else ''}" for k in range(count)}
        files |= {f"{where}/{k}.conf": f"{k}" for k in range(count // 4)} | {f"usr/lib/{k}/x": "" for k in range(count // 4)}
        shape.pack("whole", version, '[config]\nfiles = ["etc/**"]\n', files)
        os.makedirs(f"{shape.root}/usr/share/d", exist_ok=True)
        os.makedirs(f"{shape.root}/{where}", exist_ok=True)
        shape.publish()
        if version == "1":
            shape("install", "whole", "-y")
    for k in range(0, count // 4, 2):
        edit(f"{shape.root}/etc/c/{k}.conf")
    for k in range(0, count, 5):
        os.unlink(f"{shape.root}/usr/share/d/{k}")
    shape("verify")
    shape("repair", "-y")
    shape("upgrade", "-y", "--configs", "wait")
    shape.look("whole")
    for words in ("undo last --dry-run", "undo last -y", "rollback 1 --dry-run", "remove whole -y", "undo last -y"):
        shape(*words.split())
    return shape


def relations(count):
    shape = Shape("relations", count)
    for i in range(count):
        shape.pack(f"chain-{i}", "1", f'[relations]\nrequires = ["chain-{i + 1}"]\n' if i + 1 < count else "")
        shape.pack(f"circle-{i}", "1", f'[relations]\nrequires = ["circle-{(i + 1) % count}"]\n')
        shape.pack(f"provider-{i}", "1", '[relations]\nprovides = ["same"]\n')
        shape.pack(f"user-{i}", "1", '[relations]\nrequires = ["same"]\n')
        shape.pack(f"rival-{i}", "1", '[relations]\nprovides = ["alone"]\nconflicts = ["alone"]\n')
        shape.pack(f"advice-{i}", "1", f'[relations]\nrecommends = ["chain-{i}", "absent-{i}"]\n')
        shape.pack("version", str(i + 1), "parallel = 2\n")
    shape.pack("broken", "1", '[relations]\nrequires = ["chain-0", "absent"]\n')
    shape.publish()
    for name in ("chain-0", "circle-0", "provider-*", "user-*", "rival-*", "advice-*", "version", "broken"):
        shape("install", name, "--dry-run")
    shape("install", "chain-0", "circle-0", "provider-*", "user-*", "advice-*", "rival-1", "version", "-y")
    for name in (f"chain-{count - 1}", "provider-*", "provider-0", "circle-1", "rival-1"):
        shape("remove", name, "--dry-run")
    shape("upgrade", "--dry-run")
    shape("hold", "chain-*", "-y")
    shape("list", "name:provider-*")
    shape.look("chain-1")
    shape("undo", "1", "-y")
    return shape


def acting(count):
    shape = Shape("acting", count)
    for i in range(count):
        shape.pack(f"part-{i}", "1", f'[[accounts]]\nname = "account{i}"\n[[directories]]\npath = "var/lib/{i}"\n'
                   f'user = "account{i}"\ngroup = "account{i}"\nmode = "0750"\n'
                   f'[[candidates]]\npath = "usr/bin/view"\nfile = "usr/lib/view-{i}"\nrank = {i + 1}\n',
                   {f"usr/lib/view-{i}": "", f"usr/lib/systemd/system/{i}.service": "[Service]\nExecStart=/bin/true\n"})
    shape.publish()
    shape("install", "part-*", "-y")
    shape("pick", "/usr/bin/view", "part-1", "-y")
    shape.look("part-1")
    for words in ("services", "undo last -y", "remove part-* -y", "undo last -y"):
        shape(*words.split())
    return shape


def history(count):
    shape = Shape("history", count)
    for i in range(20):
        shape.pack(f"part-{i}", "1", '[config]\nfiles = ["etc/**"]\n', {f"usr/share/{i}": "x", f"etc/{i}.conf": "x"})
    shape.publish()
    for i in range(count):
        shape.timed("a change", program, "--root", shape.root, "-q", "install" if i // 20 % 2 == 0 else "remove",
                    f"part-{i % 20}", "-y")
        if i % 10 == 0:
            shape.timed("a checkpoint", program, "--root", shape.root, "-q", "checkpoint", "make", f"point-{i}")
    shape.look("part-1")
    for words in ("ledger --package part-1", "rollback 1 --dry-run", "rollback 1 -y", "undo last -y", "repair --rebuild -y"):
        shape(*words.split())
    return shape


SHAPES = {"wide": (wide, 60), "one": (one, 3000), "relations": (relations, 100), "acting": (acting, 60), "history": (history, 60)}

for name in sys.argv[3:] or SHAPES:
    make, count = SHAPES[name]
    few, many = make(count).seconds, make(count * FACTOR).seconds
    print(f"{name}: {count}, {count * FACTOR}")
    for what, seconds in many.items():
        if seconds > LEAST:
            growth = seconds / few[what]
            mark = "!" if growth > FACTOR * TOO_MUCH else " "
            print(f"{mark} {growth:5.1f} times  {few[what] * 1000:7.0f} ms {seconds * 1000:7.0f} ms  {what}", flush=True)
    shutil.rmtree(directory, ignore_errors=True)
