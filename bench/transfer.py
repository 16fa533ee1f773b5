"""transfer.py PROGRAM DIR [COUNT] - downloads COUNT packages of 1 MiB from nginx on loopback, verified, against
`curl --parallel` of the same files, and against it with a sync of what it wrote, as ours is on the disk; the same through
a relay that delays each request by 30 ms. Medians of 5 pairs."""
import asyncio
import os
import shutil
import statistics
import subprocess
import sys
import threading
import time

program, directory = sys.argv[1:3]
count = int(sys.argv[3]) if len(sys.argv) > 3 else 300
source = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
repo, root, run = (os.path.join(directory, name) for name in ("repo", "root", "nginx"))


def build():
    shutil.rmtree(directory, ignore_errors=True)
    tree = os.path.join(directory, "src")
    os.makedirs(os.path.join(tree, "root/usr/share"))
    for i in range(count):
        name = f"pkg-{i:03}"
        file = os.path.join(tree, "root/usr/share", name)
        with open(file, "wb") as out:
            out.write(os.urandom(1 << 20))
        with open(os.path.join(tree, "package.toml"), "w") as out:
            out.write(f'name = "{name}"\nversion = "1-1"\narch = "independent"\nsummary = "{name}"\n')
        os.makedirs(os.path.join(repo, "packages", name))
        subprocess.run([program, "pack", "-q", "--level", "1", tree, "-o", f"{repo}/packages/{name}/1-1.independent.hambrel"],
                       check=True)
        os.unlink(file)
    subprocess.run([program, "publish", "-q", repo], check=True)
    os.makedirs(root)


class Relay(threading.Thread):
    """Passes connections on; each piece that a client sends (a request) waits first."""

    def __init__(self, port, delay):
        super().__init__(daemon=True)
        self.target, self.delay, self.ready = port, delay, threading.Event()
        self.start()
        self.ready.wait()

    def run(self):
        asyncio.run(self.serve())

    async def serve(self):
        server = await asyncio.start_server(self.client, "127.0.0.1", 0, limit=1 << 20)
        self.port = server.sockets[0].getsockname()[1]
        self.ready.set()
        await server.serve_forever()

    async def client(self, reader, writer):
        there, to = await asyncio.open_connection("127.0.0.1", self.target, limit=1 << 20)

        async def pump(source, sink, delay):
            try:
                while data := await source.read(1 << 18):
                    if delay:
                        await asyncio.sleep(delay)
                    sink.write(data)
                    await sink.drain()
                sink.write_eof()
            except (ConnectionError, OSError):
                pass
        await asyncio.gather(pump(reader, to, self.delay), pump(there, writer, 0))
        writer.close()


def hambrel():
    shutil.rmtree(f"{root}/var/cache/hambrel/packages", ignore_errors=True)
    os.sync()
    start = time.perf_counter()
    subprocess.run([program, "--root", root, "-q", "install", "pkg-*", "--download-only", "-y", "--no-recommended"], check=True,
                   stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def curl(base, parallel):
    out = os.path.join(directory, "curl")
    shutil.rmtree(out, ignore_errors=True)
    os.makedirs(out)
    os.sync()
    lines = "".join(f'url = "{base}/packages/pkg-{i:03}/1-1.independent.hambrel"\noutput = "{out}/{i}"\n' for i in range(count))
    start = time.perf_counter()
    subprocess.run(["curl", "-sS", "--no-progress-meter", "--parallel", "--parallel-max", str(parallel), "-K", "-"],
                   input=lines, text=True, check=True)
    fetched = time.perf_counter() - start
    subprocess.run(["sync", "-f", out], check=True)
    return fetched, time.perf_counter() - start


def compare(what, base):
    shutil.rmtree(root, ignore_errors=True)
    os.makedirs(f"{root}/etc/hambrel")
    subprocess.run([program, "--root", root, "-q", "repo", "add", base, "bench", "--unsigned"], check=True)
    rounds = [(hambrel(), *min(curl(base, 4), curl(base, 50))) for _ in range(5)]
    ours, theirs, synced = (statistics.median(one[i] for one in rounds) for i in range(3))
    ratio, fair = (statistics.median(one[0] / one[i] for one in rounds) for i in (1, 2))
    print(f"{what}: {ours:.2f} s, curl {theirs:.2f} s, ratio {ratio:.2f}; with its sync {synced:.2f} s, ratio {fair:.2f}",
          flush=True)


build()
url = subprocess.run([f"{source}/tests/scenario/nginx.sh", repo, run], check=True, capture_output=True, text=True).stdout.strip()
try:
    compare("as it is", url)
    relay = Relay(int(url.rsplit(":", 1)[1]), 0.03)
    compare("30 ms on each request", f"http://127.0.0.1:{relay.port}")
finally:
    with open(f"{run}/nginx.pid") as pid:
        os.kill(int(pid.read()), 15)
