"""going_back.py PROGRAM DIR - measures undo, rollback, activate, verify, repair and checkpoints; see going-back.sh."""
import http.server
import os
import re
import subprocess
import threading

from workbench import *

PARTS, STEPS = 30, 50


def make_parts():
    """The payload as 30 packages in two versions, of which 600 files differ."""
    parts = f"{repository}-parts"
    if os.path.exists(f"{parts}/index"):
        return
    make_payload(f"{directory}/one/root")
    files = sorted(os.path.relpath(os.path.join(where, name), f"{directory}/one/root")
                   for where, _, names in os.walk(f"{directory}/one/root") for name in names)
    size = len(files) // PARTS + 1
    for i in range(PARTS):
        first, second = f"{directory}/part-1", f"{directory}/part-2"
        for path in files[i * size:(i + 1) * size]:
            os.makedirs(os.path.dirname(f"{first}/root/{path}"), exist_ok=True)
            os.link(f"{directory}/one/root/{path}", f"{first}/root/{path}")
        manifest(first, f"part-{i:02}", "1")
        change(first, second, 0.03, False)
        manifest(second, f"part-{i:02}", "2")
        for version, source in (("1", first), ("2", second)):
            os.makedirs(f"{parts}/packages/part-{i:02}", exist_ok=True)
            sh(program, "pack", "-q", source, "-o", f"{parts}/packages/part-{i:02}/{version}.independent.hambrel")
            shutil.rmtree(source)
    sh(program, "publish", parts)


def told(disk, *words):
    """Seconds of the moves alone, and of the whole process."""
    start = time.perf_counter()
    ran = subprocess.run([program, "--root", disk, *words, "-y", "-v"], check=True, capture_output=True, text=True)
    whole = time.perf_counter() - start
    return float(re.search(r"moves in ([0-9.]+) ms", ran.stdout + ran.stderr)[1]) / 1000, whole


def bytes_of(*paths):
    return sum(int(line.split()[0]) for line in
               subprocess.run(["du", "-s", "--block-size=1", *paths], check=True, capture_output=True, text=True)
               .stdout.splitlines())


def files_of(disk):
    """Path -> inode of the packages' files."""
    return {os.path.join(where, name): os.lstat(os.path.join(where, name)).st_ino
            for where, _, names in os.walk(f"{disk}/usr") for name in names}


class Counting(http.server.SimpleHTTPRequestHandler):
    """Serves ranges, and counts what it sends of package files."""
    sent = 0

    def do_GET(self):
        path = self.translate_path(self.path)
        if not os.path.isfile(path):
            return self.send_error(404)
        size = os.path.getsize(path)
        asked = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
        first, last = (int(asked[1]), int(asked[2] or size - 1)) if asked else (0, size - 1)
        last = min(last, size - 1)
        self.send_response(206 if asked else 200)
        self.send_header("Content-Length", str(last - first + 1))
        if asked:
            self.send_header("Content-Range", f"bytes {first}-{last}/{size}")
        self.end_headers()
        with open(path, "rb") as file:
            file.seek(first)
            self.wfile.write(file.read(last - first + 1))
        if path.endswith(".hambrel"):
            Counting.sent += last - first + 1

    def log_message(self, *_):
        pass


def repair_over_http(disk):
    """Bytes fetched for one damaged file of a package of 100 MB, against those of the package."""
    shop = f"{repository}-large"
    if not os.path.exists(f"{shop}/index"):
        source = f"{directory}/large"
        for i in range(100):
            os.makedirs(f"{source}/root/usr/share/tiles", exist_ok=True)
            with open(f"{source}/root/usr/share/tiles/{i:03}", "wb") as out:
                out.write(random.Random(i).randbytes(1 << 20))
        manifest(source, "tiles", "1")
        os.makedirs(f"{shop}/packages/tiles")
        sh(program, "pack", "-q", source, "-o", f"{shop}/packages/tiles/1.independent.hambrel")
        sh(program, "publish", shop)
    server = http.server.ThreadingHTTPServer(
        ("127.0.0.1", 0), lambda *words: Counting(*words, directory=shop))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    subprocess.run([program, "--root", disk, "repo", "add", "web", f"http://127.0.0.1:{server.server_port}", "--unsigned"], check=True)
    subprocess.run([program, "--root", disk, "refresh", "-q"], check=True)
    hambrel(disk, "install", "tiles")
    shutil.rmtree(f"{disk}/var/cache/hambrel/packages/tiles")
    with open(f"{disk}/usr/share/tiles/042", "r+b") as file:
        file.write(b"damaged")
    Counting.sent = 0
    hambrel(disk, "repair", "tiles")
    server.shutdown()
    whole = os.path.getsize(f"{shop}/packages/tiles/1.independent.hambrel")
    print(f"| repair of one file of a package of {whole / 1e6:.0f} MB over HTTP, bytes | 0.03 | {Counting.sent} | "
          f"{Counting.sent / whole:.4f} | |", flush=True)


make_parts()
print("| what | at most | median | ratio | peak |\n|---|---|---|---|---|")
keys = ("cp", "upgrade", "undo", "rollback", "activate", "verify", "sums", "fast", "find", "many", "steps", "many_whole",
        "steps_whole", "space")
times = {key: [] for key in keys}
memory = dict.fromkeys(keys, 0.0)


def note(key, result):
    times[key].append(result[0])
    memory[key] = max(memory[key], result[1])


for run in range(RUNS):
    with Disk() as disk:
        prepare(disk, "parts", "part-*")
        hambrel(disk, "install", *[f"part-{i:02}=1" for i in range(PARTS)])
        hambrel(disk, "upgrade", "--download-only")
        os.makedirs(f"{disk}/copy")
        sync()
        note("cp", timed("sh", "-c", f"cp -a {disk}/usr {disk}/copy/ && sync -f {disk}"))
        shutil.rmtree(f"{disk}/copy")
        sync()
        subprocess.run([program, "--root", disk, "checkpoint", "make", f"calm"], check=True, stdout=subprocess.DEVNULL)
        kept = [f"{disk}/var/lib/hambrel/attic", f"{disk}/var/lib/hambrel/checkpoints"]
        before, files = bytes_of(*kept), files_of(disk)
        blocks = {path: os.lstat(path).st_blocks * 512 for path in files}
        note("upgrade", hambrel(disk, "upgrade"))
        after = files_of(disk)
        changed = sum(blocks[path] for path in files if after.get(path) != files[path])
        times["space"].append((bytes_of(*kept) - before) / changed)
        sync()
        note("undo", hambrel(disk, "undo", "2"))
        sync()
        hambrel(disk, "redo", "2")
        sync()
        note("rollback", hambrel(disk, "rollback", "1"))
        sync()
        hambrel(disk, "upgrade", "--prepare")
        sync()
        note("activate", timed(program, "--root", disk, "activate", "-q"))
        sync()
        note("verify", timed(program, "--root", disk, "verify", "-q"))
        note("sums", timed("sh", "-c", f"find {disk}/usr -type f -print0 | xargs -0 -P2 -n256 sha256sum"))
        note("fast", timed(program, "--root", disk, "verify", "--fast", "-q"))
        note("find", timed("find", f"{disk}/usr", "-printf", "%p %s %T@ %m %u %g\\n"))
        hambrel(disk, "rollback", "1")
        start = subprocess.run([program, "--root", disk, "ledger", "--most", "1", "--json"], check=True,
                               capture_output=True, text=True).stdout
        here = re.search(r'"id":(\d+)', start)[1]
        moves, whole = 0.0, 0.0
        for step in range(STEPS):
            i = step if step < PARTS else step - PARTS
            words = ("install", f"part-{i:02}=2") if step < PARTS else ("remove", f"part-{i:02}")
            one = told(disk, *words)
            moves, whole = moves + one[0], whole + one[1]
        sync()
        back = told(disk, "rollback", here)
        for key, value in (("steps", moves), ("steps_whole", whole), ("many", back[0]), ("many_whole", back[1])):
            times[key].append(value)
        if run == 0:
            repair_over_http(disk)
row("undo of an upgrade of 600 files in 30 packages, against cp -a", "0.04", times["undo"], times["cp"], memory["undo"])
row("rollback of it", "0.04", times["rollback"], times["cp"], memory["rollback"])
row(f"rollback across {STEPS} transactions: its moves against theirs", "1.0", times["many"], times["steps"])
row("the same, whole processes", "", times["many_whole"], times["steps_whole"])
row("activate of the prepared upgrade, against doing it in one go", "0.15", times["activate"], times["upgrade"], memory["activate"])
row("verify, against sha256sum by two processes", "1.0", times["verify"], times["sums"], memory["verify"])
row("verify --fast, against find -printf", "2.0", times["fast"], times["find"], memory["fast"])
print(f"| space of a checkpoint, against the bytes changed since | 1.05 | | {statistics.median(times['space']):.3f} | |")
