"""transactions.py PROGRAM DIR - see transactions.sh."""
import os
import shutil

from workbench import *

source = f"{directory}/one"
make_payload(f"{source}/root")
manifest(source, "payload", "1")
change(source, f"{directory}/even", 0.03, False)
change(source, f"{directory}/clustered", 0.03, True)
for name in ("even", "clustered"):
    manifest(f"{directory}/{name}", "payload", "2")
packages = {}
for name, version in (("one", "1"), ("even", "2"), ("clustered", "2")):
    packages[name] = f"{repository}-{name}/packages/payload/{version}.independent.hambrel"
    if not os.path.exists(packages[name]):
        os.makedirs(os.path.dirname(packages[name]))
        sh(program, "pack", "-q", f"{directory}/{name}", "-o", packages[name])
        sh(program, "publish", f"{repository}-{name}")
archive = f"{directory}/payload.tar.zst"
if not os.path.exists(archive):
    sh("sh", "-c", f"tar -C {source}/root -c . | zstd -q -9 -o {archive}")
print(f"archive against one stream: {os.path.getsize(packages['one']) / os.path.getsize(archive):.3f}")
many = f"{repository}-many/packages"
if not os.path.exists(many):
    files = sorted(os.path.relpath(os.path.join(where, name), f"{source}/root")
                   for where, _, names in os.walk(f"{source}/root") for name in names)
    for i in range(200):
        part = f"{directory}/part"
        for path in files[i * 100:(i + 1) * 100]:
            os.makedirs(os.path.dirname(f"{part}/root/{path}"), exist_ok=True)
            os.link(f"{source}/root/{path}", f"{part}/root/{path}")
        manifest(part, f"part-{i}", "1")
        os.makedirs(f"{many}/part-{i}")
        sh(program, "pack", "-q", part, "-o", f"{many}/part-{i}/1.independent.hambrel")
        shutil.rmtree(part)
    sh(program, "publish", f"{repository}-many")


print("| what | at most | median | ratio | peak |\n|---|---|---|---|---|")
times = {key: [] for key in ("tar", "fresh", "there", "parts", "even", "clustered", "undo", "cp")}
memory = dict.fromkeys(times, 0.0)


def note(key, result):
    times[key].append(result[0])
    memory[key] = max(memory[key], result[1])


for _ in range(RUNS):
    with Disk() as disk:
        os.makedirs(f"{disk}/tar")
        note("tar", timed("sh", "-c", f"tar -C {disk}/tar --zstd -xf {archive} && sync -f {disk}"))
        note("cp", timed("sh", "-c", f"cp -a {disk}/tar {disk}/copy && sync -f {disk}"))
    for key in ("even", "clustered"):
        with Disk() as disk:
            prepare(disk, "one", "payload")
            note("fresh", hambrel(disk, "install", "payload"))
            prepare(disk, key, "payload=2")
            note(key, hambrel(disk, "install", "payload=2"))
            sync()
            note("undo", hambrel(disk, "undo", "2"))
    with Disk() as disk:
        prepare(disk, "one", "payload")
        sh("sh", "-c", f"cd {source}/root && find . -type d | (cd {disk} && xargs -d '\\n' mkdir -p)")
        sync()
        note("there", hambrel(disk, "install", "payload"))
    with Disk() as disk:
        prepare(disk, "many", "part-*")
        note("parts", hambrel(disk, "install", "part-*"))
row("tar --zstd -xf and sync", "", times["tar"], times["tar"])
row("install into a fresh root", "0.65", times["fresh"], times["tar"], memory["fresh"])
row("the same, all directories there", "0.80", times["there"], times["tar"], memory["there"])
row("200 packages of 100 files", "0.80", times["parts"], times["tar"], memory["parts"])
row("upgrade, 3 % changed evenly", "0.12", times["even"], times["tar"], memory["even"])
row("upgrade, 3 % changed in a cluster", "0.07", times["clustered"], times["tar"], memory["clustered"])
row("undo of these, against cp -a", "0.04", times["undo"], times["cp"], memory["undo"])
