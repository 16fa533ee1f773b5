#!/usr/bin/env python3
"""realroot/test.py HAMBREL - a real system out of this machine's own programs, kept by Hambrel.

Packs programs and libraries by what their ELF files need, with an account, a trigger that runs ldconfig, a daemon under
runit, and two candidates for one path; installs them into an empty root, enters it, starts its supervisor, and from
inside upgrades, breaks, undoes and removes them with the Hambrel that was installed there. Prints what it did; fails
with what was not so. Needs root and namespaces (skipped without: exit code 77).
"""
import glob
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, f"{os.path.dirname(os.path.abspath(__file__))}/../../demo")
import elf

HAMBREL = os.path.abspath(sys.argv[1])
TOP = tempfile.mkdtemp(prefix="hambrel-realroot.")
ROOT, SOURCES, REPOSITORY = f"{TOP}/root", f"{TOP}/sources", f"{TOP}/repository"
ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8", "HOME": "/"}
supervisor = None


def expect(condition, what):
    if not condition:
        raise AssertionError(what)


def run(words, code=0, **more):
    ran = subprocess.run(words, capture_output=True, text=True, stdin=subprocess.DEVNULL, **more)
    expect(ran.returncode == code, f"{' '.join(words)}: returned {ran.returncode}\n{ran.stdout}{ran.stderr}")
    return ran.stdout + ran.stderr


# ---------------------------------------------------------------- packages


class Package:
    """What is packed: files of the machine by path, texts, links, and lines of package.toml."""

    def __init__(self, name, version="1", toml=""):
        self.name, self.version, self.toml = name, version, toml
        self.requires, self.files, self.texts, self.links = set(), {}, {}, {}

    def pack(self):
        source = f"{SOURCES}/{self.name}-{self.version}"
        requires = "".join(f'"{one}", ' for one in sorted(self.requires - {self.name}))
        os.makedirs(f"{source}/root", exist_ok=True)
        with open(f"{source}/package.toml", "w") as file:
            file.write(f'name = "{self.name}"\nversion = "{self.version}"\narch = "{os.uname().machine}"\n'
                       f'summary = "{self.name} of this machine"\n{self.toml}\n[relations]\nrequires = [{requires}]\n')
        for path, origin in self.files.items():
            self.at(source, path)
            shutil.copy(origin, f"{source}/root/{path}")
            os.chmod(f"{source}/root/{path}", os.stat(origin).st_mode & 0o755 | 0o644)
        for path, (text, mode) in self.texts.items():
            self.at(source, path)
            with open(f"{source}/root/{path}", "w") as file:
                file.write(text)
            os.chmod(f"{source}/root/{path}", mode)
        for path, target in self.links.items():
            self.at(source, path)
            os.symlink(target, f"{source}/root/{path}")
        directory = f"{REPOSITORY}/packages/{self.name}"
        os.makedirs(directory, exist_ok=True)
        run([HAMBREL, "pack", "-q", source, "-o", f"{directory}/{self.version}.{os.uname().machine}.hambrel"])

    @staticmethod
    def at(source, path):
        os.makedirs(os.path.dirname(f"{source}/root/{path}"), exist_ok=True)


packages = {}
where = {}  # library -> its package


def package(name, **more):
    return packages.setdefault(name, Package(name, **more))


def add_library(name, beside):
    """The package of a library, with all that it needs."""
    if name in where:
        return where[name]
    path = elf.library(name, beside)
    of_libc = name.startswith(("libc.so", "ld-linux", "libm.so", "libpthread", "libdl.so", "librt.so", "libresolv"))
    one = package("libc" if of_libc else name.split(".so")[0].lower().replace("_", "-"))
    where[name] = one.name
    one.files[f"usr/lib/{name}"] = os.path.realpath(path)
    for other in elf.needs(path)[1]:
        one.requires.add(add_library(other, path))
    return one.name


def add_program(one, name, to=None):
    path = os.path.realpath(shutil.which(name, path="/usr/local/bin:/usr/bin:/usr/sbin:/bin:/sbin") or name)
    one.files[to or f"usr/bin/{name}"] = path
    interpreter, names = elf.needs(path)
    if interpreter:
        add_library(os.path.basename(interpreter), path)
        packages["libc"].links[interpreter.lstrip("/").replace("lib64/", "usr/lib64/").replace("lib/", "usr/lib/")
                               if not interpreter.startswith("/lib64/") else "lib64/" + os.path.basename(interpreter)] = \
            f"../usr/lib/{os.path.basename(interpreter)}"
    for library in names:
        one.requires.add(add_library(library, path))


DAEMON = """#!/bin/sh
# appends the height of the tide to its log, once a moment
echo $$ > /var/lib/tidelog/running
while :; do echo "{}" >> /var/lib/tidelog/log; sleep 0.2; done
"""


def tidelog(version, daemon=None, more=""):
    one = Package("tidelog", version, more + """
[[accounts]]
name = "tidelog"
text = "log of the tide gauge"
home = "/var/lib/tidelog"

[[directories]]
path = "var/lib/tidelog"
user = "tidelog"
group = "tidelog"
mode = "0750"

[[services]]
name = "tidelog"
check = ["/usr/bin/tidecheck"]
check-seconds = 3
""")
    one.requires = {"shell", "tools", "runit"}
    one.texts = {"usr/bin/tidelogd": (daemon or DAEMON.format(f"tide {version}"), 0o755),
                 "usr/bin/tidecheck": ("#!/bin/sh\nsleep 0.5\nread pid < /var/lib/tidelog/running && kill -0 $pid && "
                                       f"[ \"$(tail -n 1 /var/lib/tidelog/log)\" = 'tide {version}' ]\n", 0o755),
                 "etc/sv/tidelog/run": ("#!/bin/sh\nexec chpst -u tidelog /usr/bin/tidelogd\n", 0o755)}
    one.links = {"etc/sv/tidelog/supervise": "/run/tidelog.supervise"}
    return one


def pack_all():
    base = package("base")
    base.links = {"bin": "usr/bin", "sbin": "usr/sbin", "lib": "usr/lib"}
    base.texts = {"etc/passwd": ("root:x:0:0:root:/root:/bin/sh\n", 0o644), "etc/group": ("root:x:0:\n", 0o644),
                  "etc/ld.so.conf": ("/usr/lib\n", 0o644)}
    base.toml = '[config]\nfiles = ["etc/passwd", "etc/group"]\n'
    shell = package("shell")
    add_program(shell, "dash")
    shell.links["usr/bin/sh"] = "dash"
    tools = package("tools")
    for name in "cat chmod chown cp cut date echo head id ln ls mkdir mv rm sleep sort stat tail touch true".split():
        add_program(tools, name)
    for name in ("bash", "grep", "sed", "find", "tar", "gzip"):
        add_program(package(name), name)
    for name, rank in (("less", 20), ("more", 10)):
        path = shutil.which(name)
        if path is None:
            continue
        one = package(name)
        add_program(one, name)
        one.toml = f'[[candidates]]\npath = "usr/bin/pager"\nfile = "usr/bin/{name}"\nrank = {rank}\n'
    if "less" not in packages:  # a machine without it: something else to choose from
        one = package("less")
        add_program(one, "cat", "usr/bin/less")
        one.toml = '[[candidates]]\npath = "usr/bin/pager"\nfile = "usr/bin/less"\nrank = 20\n'
    runit = package("runit")
    for name in ("runsvdir", "runsv", "sv", "chpst"):
        add_program(runit, name)
    runit.texts = {"etc/service/README": ("What has a link here is kept running.\n", 0o644)}
    libc = packages["libc"]
    add_program(libc, "/usr/sbin/ldconfig", "usr/sbin/ldconfig")
    libc.toml = ('[[triggers]]\nwatches = ["usr/lib/*.so*"]\nrun = ["/sbin/ldconfig"]\n'
                 'writes = ["etc/ld.so.cache", "var/cache/ldconfig/**"]\n')
    ours = package("hambrel")
    add_program(ours, HAMBREL, "usr/bin/hambrel")
    for pattern in ("libgit2.so.*", "libsimdjson.so.*", "libcurl.so.4"):  # what it loads when it needs it
        for path in glob.glob(f"/usr/lib/*/{pattern}"):
            ours.requires.add(add_library(os.path.basename(path), path))
    for one in packages.values():
        if one is not base:
            one.requires.add("base")
        one.pack()
    tidelog("1").pack()
    publish()


def publish():
    run([HAMBREL, "publish", "-q", REPOSITORY])


def pack_again(*more):
    for one in more:
        one.pack()
    publish()
    inside("hambrel", "refresh", "-q")


# ---------------------------------------------------------------- the root


def outside(*words, code=0):
    return run([HAMBREL, "--root", ROOT, *words], code)


def enter():
    """Starts the supervisor of the root, in namespaces of its own, as a machine would."""
    global supervisor
    os.makedirs(f"{ROOT}/proc", exist_ok=True)
    os.makedirs(f"{ROOT}/dev", exist_ok=True)
    os.makedirs(f"{ROOT}/run", exist_ok=True)
    os.makedirs(f"{ROOT}/repository", exist_ok=True)
    supervisor = subprocess.Popen(
        ["unshare", "--mount", "--pid", "--fork", "--kill-child", "sh", "-c",
         f"mount -t proc proc {ROOT}/proc && mount --bind {REPOSITORY} {ROOT}/repository && "
         f"mount --rbind /dev {ROOT}/dev && exec chroot {ROOT} /usr/bin/runsvdir -P /etc/service"],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=ENVIRONMENT)
    until(lambda: first_process() is not None, "the supervisor starts")


def first_process():
    """Of the root, as this machine counts."""
    for status in glob.glob("/proc/[0-9]*/status"):
        try:
            text = open(status).read()
        except OSError:
            continue
        if f"PPid:\t{supervisor.pid}\n" in text and "Name:\trunsvdir\n" in text:
            return status.split("/")[2]
    return None


def inside(*words, code=0):
    return run(["nsenter", "-t", first_process(), "--mount", "--pid", "--root", "--wd", *words], code, env=ENVIRONMENT)


def until(condition, what, seconds=15):
    end = time.monotonic() + seconds
    while not condition():
        expect(time.monotonic() < end, f"in {seconds} s it did not come to this: {what}")
        time.sleep(0.05)


def text(path):
    with open(f"{ROOT}/{path}") as file:
        return file.read()


def state():
    """Everything of the root that matters: path -> what is there."""
    all_files = {}
    for directory, directories, files in os.walk(ROOT):
        below = os.path.relpath(directory, ROOT)
        directories[:] = [one for one in directories if os.path.normpath(f"{below}/{one}") not in
                          ("proc", "dev", "run", "tmp", "repository", "var/lib/hambrel", "var/cache/hambrel",
                           "var/lib/tidelog", "var/cache/ldconfig")]
        for name in directories + files:
            path = f"{directory}/{name}"
            info = os.lstat(path)
            facts = (oct(info.st_mode), info.st_uid, info.st_gid)
            if os.path.islink(path):
                facts += (os.readlink(path),)
            elif os.path.isfile(path):
                with open(path, "rb") as file:
                    facts += (hash(file.read()),)
            all_files[os.path.relpath(path, ROOT)] = facts
    return all_files


def service():
    return json.loads(inside("hambrel", "services", "--json"))


def running():
    """The number of the daemon, as the root counts."""
    return text("var/lib/tidelog/running").strip()


def transaction():
    return json.loads(inside("hambrel", "ledger", "--most", "1", "--json"))["id"]


def told(what):
    print(f"realroot: {what}", flush=True)


def the_system_installs():
    pack_all()
    os.makedirs(f"{ROOT}/etc/hambrel")
    outside("repo", "add", "here", f"file://{REPOSITORY}", "--unsigned")
    outside("refresh")
    outside("install", *(name for name in packages), "-y")
    told(f"{len(packages)} packages of this machine are installed")
    expect("usr/lib" in inside_quietly("ldconfig", "-p"), "ldconfig's cache was made by the trigger")


def inside_quietly(*words):
    return run(["chroot", ROOT, *words], env=ENVIRONMENT)


def programs_run():
    expect("42" in inside("bash", "-c", "echo $((6 * 7))"), "bash runs")
    expect("tide" in inside("sh", "-c", "echo low tide | grep tide | sed s/low/high/"), "grep and sed run")
    inside("hambrel", "repo", "drop", "here", "-y")
    inside("hambrel", "repo", "add", "here", "file:///repository", "--unsigned")
    inside("hambrel", "refresh")
    inside("hambrel", "verify")
    told("they run, Hambrel among them")


def a_daemon_is_installed():
    before = state()
    plan = inside("hambrel", "install", "tidelog", "-n")
    expect("enable" in plan and "start" in plan and "tidecheck returns 0" in plan, f"the plan tells of the service:\n{plan}")
    out = inside("hambrel", "install", "tidelog", "-y")
    expect("Service tidelog: started" in out, out)
    expect("tide 1" in text("var/lib/tidelog/log"), "the daemon writes")
    expect(os.stat(f"{ROOT}/var/lib/tidelog/log").st_uid != 0, "as its own account")
    one = service()
    expect(one["state"] == "running" and one["enabled"] and not one["due"], one)
    told("a daemon with an account of its own starts, and is healthy")
    return before


def an_upgrade_restarts_it():
    pid = running()
    pack_again(tidelog("2"))
    out = inside("hambrel", "upgrade", "tidelog", "-y")
    expect("Service tidelog: restarted" in out, out)
    expect(running() != pid and "tide 2" in text("var/lib/tidelog/log"), "the new version runs")
    shown = inside("hambrel", "ledger", "show", str(transaction()))
    expect("service tidelog" in shown and "check" in shown, shown)
    told("an upgrade restarts it, and the ledger tells")


def what_does_not_come_up_is_told_or_undone():
    before, pid = state(), running()
    pack_again(tidelog("3", "#!/bin/sh\necho no gauge >&2; exit 1\n"))
    out = inside("hambrel", "upgrade", "tidelog", "-y", code=13)
    expect("did not come up" in out and "tidecheck" in out, out)
    inside("hambrel", "undo", str(transaction()), "-y")
    expect(state() == before, "an undo brings the old version back")
    inside("hambrel", "services", "start", "tidelog")
    with open(f"{ROOT}/etc/hambrel/hambrel.toml", "w") as file:
        file.write('[services]\nfailed = "undo"\n')
    before = state()
    out = inside("hambrel", "upgrade", "tidelog", "-y", code=1)
    expect("everything is as before" in out, out)
    expect(state() == before, "it is undone by itself")
    until(lambda: service()["state"] == "running", "the old version runs again")
    expect(running() != pid, "it was started anew")
    os.remove(f"{REPOSITORY}/packages/tidelog/3.{os.uname().machine}.hambrel")
    os.remove(f"{ROOT}/etc/hambrel/hambrel.toml")
    pack_again()
    told("a version that does not come up is told, or undone by itself")


def what_runs_on_replaced_files_is_due():
    libc = packages["libc"]
    libc.version, libc.toml = "2", 'restart = "system"\n' + libc.toml
    pack_again(libc)
    out = inside("hambrel", "upgrade", "libc", "-y")
    expect("replaced files: tidelog" in out and "machine has to be restarted for: libc" in out, out)
    due = inside("hambrel", "services", "due")
    expect("tidelog" in due and "/usr/lib/libc.so" in due and "first process" in due, due)
    pid = running()
    inside("hambrel", "services", "restart", "--due")
    until(lambda: running() != pid, "it runs anew")
    expect(not service()["due"], "and is not due any more")
    told("a service on a replaced library is due, and restarted")


def a_choice_is_picked():
    expect("less" in os.readlink(f"{ROOT}/usr/bin/pager"), "the higher rank serves")
    if "more" in packages:
        inside("hambrel", "pick", "/usr/bin/pager", "more", "-y")
        expect("more" in os.readlink(f"{ROOT}/usr/bin/pager"), "what was picked serves")
        inside("hambrel", "undo", str(transaction()), "-y")
    expect("less" in os.readlink(f"{ROOT}/usr/bin/pager"), "and after an undo as before")
    told("one of two candidates is picked")


def a_killed_change_leaves_it_running():
    for step in ("journaled", "moved:2", "committed"):
        pid, before = running(), state()
        subprocess.run(["nsenter", "-t", first_process(), "--mount", "--pid", "--root", "--wd", "hambrel", "remove",
                        "tidelog", "-y"], env={**ENVIRONMENT, "HAMBREL_TEST_DIE_AT": step}, capture_output=True)
        inside("hambrel", "recover")
        if step == "committed":
            expect("tidelog" not in inside("hambrel", "list"), "it was removed")
            inside("hambrel", "undo", str(transaction()), "-y")
        expect(state() == before, f"killed at {step}: all is as before")
        until(lambda: service()["state"] == "running" and running() != pid, f"killed at {step}: it runs again")
    told("whoever is killed between a stop and the switch leaves nothing stopped")


CONVERTS = """
[[hooks]]
when = ["upgrade"]
reads-live = true
script = '''
cd /var/lib/tidelog
before=$(cat log); sleep 0.7
[ "$before" = "$(cat log)" ] || { echo the daemon still writes; exit 1; }
echo converted > format
'''
writes = ["var/lib/tidelog/**"]
"""


def a_hook_reads_what_it_wrote():
    pid, failing = running(), tidelog("3.1", more=CONVERTS.replace("echo converted", "exit 9; echo"))
    pack_again(failing)
    expect("returned 9" in inside("hambrel", "upgrade", "tidelog", "-y", code=3), "a hook that fails changes nothing")
    until(lambda: service()["state"] == "running" and running() != pid, "what was stopped for it runs again")
    pack_again(tidelog("4", more=CONVERTS))
    plan = inside("hambrel", "upgrade", "tidelog", "-n")
    expect("stopped before the hook of tidelog runs" in plan, plan)
    expect("reads what the service tidelog writes" in inside("hambrel", "upgrade", "tidelog", "--prepare", "-y", code=3),
           "that can't be prepared")
    inside("hambrel", "upgrade", "tidelog", "-y")
    expect(text("var/lib/tidelog/format") == "converted\n", "the hook found it stopped")
    until(lambda: service()["state"] == "running", "it runs again")
    told("a hook reads what the daemon wrote, while that is stopped")


def what_is_prepared_restarts_it_when_it_is_activated():
    pack_again(tidelog("5"))
    pid = running()
    inside("hambrel", "upgrade", "tidelog", "--prepare", "-y")
    expect(running() == pid, "nothing is done with it before")
    out = inside("hambrel", "activate", "-y")
    expect("Service tidelog: restarted" in out and running() != pid, out)
    pack_again(tidelog("5.1"))
    pid = running()
    inside("hambrel", "upgrade", "tidelog", "--prepare", "-y")
    inside("hambrel", "activate", "--at-boot")
    expect("Service" not in inside("hambrel", "activate", "--booting"), "while a system starts nothing is waited for")
    expect(running() == pid, "its services are left to that")
    inside("hambrel", "services", "restart", "tidelog")
    told("what was prepared restarts it when it is activated")


def it_is_disabled_and_removed(before):
    inside("hambrel", "services", "disable", "tidelog", "-y")
    expect(not os.path.lexists(f"{ROOT}/etc/service/tidelog"), "its link is gone")
    pack_again(tidelog("6"))
    inside("hambrel", "upgrade", "tidelog", "-y")
    expect(not service()["enabled"], "an upgrade respects that")
    inside("hambrel", "services", "enable", "tidelog", "-y")
    inside("hambrel", "services", "start", "tidelog")
    pid = running()
    out = inside("hambrel", "remove", "tidelog", "-y")
    expect("Service tidelog: stopped" in out, out)
    expect(not os.path.lexists(f"{ROOT}/etc/service/tidelog"), "its link goes with it")
    expect(pid not in inside("sh", "-c", "cd /proc; echo [0-9]*").split(), "it has ended")
    after = state()
    for path in ("etc/passwd", "etc/group"):  # accounts stay, as files may still be theirs
        before.pop(path), after.pop(path)
    for path in list(before):
        if path.startswith(("usr/lib/libc", "etc/ld.so", "usr/lib/ld-", "etc/hambrel", "usr/sbin/ldconfig")):
            before.pop(path), after.pop(path, None)
    differs = {path for path in before.keys() | after.keys() if before.get(path) != after.get(path)}
    expect(not {path for path in differs if not path.startswith("etc/hambrel")}, f"the rest is as before: {differs}")
    told("a removal stops it first, and leaves nothing behind")


def main():
    the_system_installs()
    enter()
    programs_run()
    before = a_daemon_is_installed()
    an_upgrade_restarts_it()
    what_does_not_come_up_is_told_or_undone()
    what_runs_on_replaced_files_is_due()
    a_choice_is_picked()
    a_killed_change_leaves_it_running()
    a_hook_reads_what_it_wrote()
    what_is_prepared_restarts_it_when_it_is_activated()
    it_is_disabled_and_removed(before)
    told("all as it should be")


if subprocess.run(["unshare", "-mpn", "--fork", "true"], capture_output=True).returncode != 0 or os.geteuid() != 0:
    print("realroot: no namespaces here, so that no root can be entered")
    sys.exit(77)
try:
    main()
finally:
    if supervisor is not None:
        supervisor.send_signal(signal.SIGKILL)
        supervisor.wait()
    shutil.rmtree(TOP, ignore_errors=True)
