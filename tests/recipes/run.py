"""run.py HAMBREL: see run.sh."""
import glob
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time

HERE = os.path.dirname(os.path.abspath(__file__))
sys.path.insert(0, f"{HERE}/../../demo")
import machine_packages

HAMBREL = os.path.abspath(sys.argv[1])
TOP = tempfile.mkdtemp(prefix="hambrel-recipes.")
ROOT, TOOLS, OUT, AGAIN = (f"{TOP}/{name}" for name in ("root", "tools", "out", "again"))
# in the order of what they need of each other, with a command that is run in the end, and what it prints
RECIPES = {
    "zlib": ([], None),  # nginx runs with it
    "lua": (["/usr/bin/lua", "-e", "print(6 * 7)"], "42"),
    "bzip2": (["/bin/sh", "-c", "echo salt | /usr/bin/bzip2 | /usr/bin/bunzip2"], "salt"),
    "pcre2": (["/bin/sh", "-c", "echo gull and buoy | /usr/bin/pcre2grep -o '[a-z]+(?=$)'"], "buoy"),
    "tree": (["/usr/bin/tree", "--noreport", "/etc/nginx/html"], "50x.html"),
    "fmt": (["/bin/sh", "-c", "test -e /usr/lib/libfmt.so.9 && echo there"], "there"),
    "nginx": (["/usr/sbin/nginx", "-t"], "test is successful"),
}


def run(words, code=0):
    ran = subprocess.run(words, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    if ran.returncode != code:
        sys.exit(f"{' '.join(words)}: returned {ran.returncode}\n{ran.stdout}{ran.stderr}")
    return ran.stdout + ran.stderr


def hambrel(*words, code=0):
    return run([HAMBREL, "--root", ROOT, *words], code)


def digests(directory):
    return {os.path.basename(path): hashlib.sha256(open(path, "rb").read()).hexdigest()
            for path in glob.glob(f"{directory}/*.hambrel")}


def contents():
    """Of the root, without Hambrel's own and what programs write while they run."""
    found = {}
    left_out = [f"{ROOT}/{one}" for one in ("var/lib/hambrel", "var/cache", "etc/hambrel", "var/log", "run")]
    for directory, names, files in os.walk(ROOT):
        names[:] = [one for one in names if os.path.join(directory, one) not in left_out]
        for name in files:
            path = os.path.join(directory, name)
            found[path] = os.readlink(path) if os.path.islink(path) else hashlib.sha256(open(path, "rb").read()).hexdigest()
    return found


def files_of(*names):
    return [path for name in names for path in glob.glob(f"{OUT}/{name}-[0-9]*.hambrel")]


def main():
    for directory in (ROOT, OUT, AGAIN):
        os.makedirs(directory)
    machine_packages.make(HAMBREL, TOOLS)
    hambrel("repo", "add", "tools", f"file://{TOOLS}", "--unsigned")
    for name in RECIPES:
        begun = time.monotonic()
        hambrel("build", f"{HERE}/{name}", "-o", OUT, "--packages", OUT)
        print(f"recipes: {name} built in {time.monotonic() - begun:.1f} s", flush=True)
    # elsewhere, later, and one after the other
    shutil.copytree(HERE, f"{TOP}/elsewhere")
    os.makedirs(f"{TOP}/workshop")
    with open(f"{TOP}/other.toml", "w") as file:
        file.write(f'[build]\ndirectory = "{TOP}/workshop"\n')
    for name in RECIPES:
        hambrel("--config", f"{TOP}/other.toml", "build", f"{TOP}/elsewhere/{name}", "-o", AGAIN, "--packages", AGAIN,
                "-j", "1")
    first, second = digests(OUT), digests(AGAIN)
    if first != second:
        sys.exit(f"recipes: not the same bytes: {[name for name in first if first[name] != second.get(name)]}")
    print(f"recipes: {len(first)} packages of {len(RECIPES)} recipes are the same, byte for byte, when built again")

    before = contents()
    names = ["zlib", "lua", "bzip2", "libbz2", "pcre2", "libpcre2", "tree", "libfmt", "nginx"]
    hambrel("install", "-y", "--allow-unsigned", *files_of(*names))
    for directory in ("dev", "var/log", "run", "etc"):
        os.makedirs(f"{ROOT}/{directory}", exist_ok=True)
    ours = {"dev/null": "", "etc/passwd": "nobody:x:65534:65534::/:/bin/sh\nroot:x:0:0::/:/bin/sh\n",
            "etc/group": "nobody:x:65534:\nnogroup:x:65534:\nroot:x:0:\n"}
    for name, text in ours.items():
        with open(f"{ROOT}/{name}", "w") as file:
            file.write(text)
    for name, (words, expected) in RECIPES.items():
        if expected and expected not in run(["chroot", ROOT, *words]):
            sys.exit(f"recipes: {name} does not work")
    print("recipes: all of them work in a root of their own")
    without = contents()

    def links():
        return run(["chroot", ROOT, "/bin/bash", "/usr/bin/ldd", "/usr/sbin/nginx"])

    if "pcre2" in links():
        sys.exit("recipes: nginx is linked against pcre2 without the option")
    hambrel("build", f"{HERE}/nginx", "-o", OUT, "--packages", OUT, "--with", "rewrite")
    hambrel("install", "-y", "--allow-unsigned", *glob.glob(f"{OUT}/nginx-*+rewrite.*.hambrel"))
    if "pcre2" not in links():
        sys.exit("recipes: the option is of no effect")
    run(["chroot", ROOT, "/usr/sbin/nginx", "-t"])
    hambrel("undo", "-y", "last")
    if contents() != without:
        sys.exit("recipes: undo did not bring back what was there")
    hambrel("undo", "-y", "1")
    for name in ours:
        os.remove(f"{ROOT}/{name}")
    if contents() != before:
        sys.exit(f"recipes: undoing the installation left {sorted(set(contents()) ^ set(before))[:5]}")
    print("recipes: an option was changed and taken back, and so was the installation")


try:
    main()
finally:
    shutil.rmtree(TOP, ignore_errors=True)
