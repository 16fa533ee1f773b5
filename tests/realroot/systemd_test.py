#!/usr/bin/env python3
"""realroot/systemd_test.py HAMBREL - services under the systemd of this machine, in a system of its own.

The system is this machine's /usr below an overlay that takes all changes, with an /etc of its own, started by systemd as
the first process of its namespaces. Hambrel runs in it as on any machine. Skipped (exit code 77) where there is no
systemd, or where it does not start so.
"""
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time

HAMBREL = os.path.abspath(sys.argv[1])
TOP = tempfile.mkdtemp(prefix="hambrel-systemd.")
ROOT, REPOSITORY = f"{TOP}/root", f"{TOP}/repository"
SYSTEMD = "/lib/systemd/systemd"
START = f"""set -e
mount --make-rprivate /
mount -t tmpfs tmpfs {ROOT}
mkdir -p {ROOT}/usr {ROOT}/etc/systemd/system {ROOT}/proc {ROOT}/sys {ROOT}/dev {ROOT}/run {ROOT}/tmp {ROOT}/var/lib \\
  {ROOT}/var/cache {ROOT}/var/log {ROOT}/repository {ROOT}/changes
mount -t tmpfs tmpfs {ROOT}/changes
mkdir {ROOT}/changes/upper {ROOT}/changes/work
mount -t overlay overlay -o lowerdir=/usr,upperdir={ROOT}/changes/upper,workdir={ROOT}/changes/work {ROOT}/usr
for link in bin sbin lib lib64; do ln -s usr/$link {ROOT}/$link; done
cp /etc/passwd /etc/group /etc/ld.so.cache {ROOT}/etc/
: > {ROOT}/etc/machine-id
for unit in systemd-journald systemd-udevd systemd-logind; do ln -s /dev/null {ROOT}/etc/systemd/system/$unit.service; done
ln -s /lib/systemd/system/multi-user.target {ROOT}/etc/systemd/system/default.target
mount -t proc proc {ROOT}/proc
mount -t sysfs sysfs {ROOT}/sys
mount -t cgroup2 cgroup2 {ROOT}/sys/fs/cgroup
mount -t tmpfs tmpfs {ROOT}/run
mount --rbind /dev {ROOT}/dev
mount --bind {REPOSITORY} {ROOT}/repository
cp {HAMBREL} {ROOT}/usr/bin/hambrel
exec chroot {ROOT} env -i container=other PATH=/usr/sbin:/usr/bin {SYSTEMD} --log-target=null
"""
system = None


def expect(condition, what):
    if not condition:
        raise AssertionError(what)


def run(words, code=0):
    ran = subprocess.run(words, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    expect(ran.returncode == code, f"{' '.join(words)}: returned {ran.returncode}\n{ran.stdout}{ran.stderr}")
    return ran.stdout + ran.stderr


def pack(version, daemon):
    source = f"{TOP}/source-{version}"
    os.makedirs(f"{source}/root/usr/bin")
    os.makedirs(f"{source}/root/usr/lib/systemd/system")

    def write(path, text, mode=0o644):
        with open(f"{source}/{path}", "w") as file:
            file.write(text)
        os.chmod(f"{source}/{path}", mode)

    write("package.toml", f'name = "tidelog"\nversion = "{version}"\narch = "independent"\nsummary = "log of the tide"\n'
          '[[services]]\nname = "tidelog"\ncheck = ["/usr/bin/tidecheck"]\ncheck-seconds = 2\n')
    write("root/usr/bin/tidelogd", f"#!/bin/sh\n{daemon}\n", 0o755)
    write("root/usr/bin/tidecheck", f"#!/bin/sh\n[ \"$(cat /run/tide)\" = {version} ]\n", 0o755)
    write("root/usr/lib/systemd/system/tidelog.service", f"[Unit]\nDescription=tide {version}\n[Service]\n"
          "ExecStart=/usr/bin/tidelogd\n[Install]\nWantedBy=multi-user.target\n")
    os.makedirs(f"{REPOSITORY}/packages/tidelog", exist_ok=True)
    run([HAMBREL, "pack", "-q", source, "-o", f"{REPOSITORY}/packages/tidelog/{version}.independent.hambrel"])
    run([HAMBREL, "publish", "-q", REPOSITORY])


def good(version):
    pack(version, f"echo {version} > /run/tide; exec sleep 100000")


def first_process():
    """Of the system, as this machine counts."""
    for number in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{number}/status") as file:
                text = file.read()
        except OSError:
            continue
        if f"PPid:\t{system.pid}\n" in text and "Name:\tsystemd\n" in text:
            return number
    return None


def inside(*words, code=0):
    return run(["nsenter", "-t", first_process(), "--mount", "--pid", "--uts", "--ipc", "--cgroup", "--root", "--wd", *words],
               code)


def starts():
    global system
    os.makedirs(ROOT)
    system = subprocess.Popen(["unshare", "--mount", "--pid", "--fork", "--uts", "--ipc", "--cgroup", "--kill-child",
                               "sh", "-c", START],
                              stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    for _ in range(200):
        if system.poll() is not None:
            return False
        try:
            if first_process() and "multi-user.target" in inside("systemctl", "list-units", "--state=active", "--no-pager"):
                return True
        except AssertionError:
            pass
        time.sleep(0.1)
    return False


def told(what):
    print(f"systemd: {what}", flush=True)


def state():
    return json.loads(inside("hambrel", "services", "--json"))


def description():
    return inside("systemctl", "show", "--property", "Description", "--value", "tidelog").strip()


def main():
    good("1")
    if not starts():
        print("systemd: it does not start in namespaces here")
        return 77
    inside("hambrel", "repo", "add", "here", "file:///repository", "--unsigned")
    inside("hambrel", "refresh")
    expect("Service tidelog: started" in inside("hambrel", "install", "tidelog", "-y"), "a new service starts")
    one = state()
    expect(one["state"] == "running" and one["enabled"], one)
    expect(inside("systemctl", "is-enabled", "tidelog").strip() == "enabled", "systemd finds it enabled")
    told("a new service is enabled and started")
    good("2")
    inside("hambrel", "refresh")
    expect("Service tidelog: restarted" in inside("hambrel", "upgrade", "-y"), "it is restarted")
    expect(description() == "tide 2", "systemd has read its unit again")
    told("an upgrade restarts it, with its new unit")
    pack("3", "exit 1")
    inside("hambrel", "refresh")
    with open(f"/proc/{first_process()}/root/etc/hambrel/hambrel.toml", "w") as file:
        file.write('[services]\nfailed = "undo"\n')
    expect("everything is as before" in inside("hambrel", "upgrade", "-y", code=1), "what fails is undone")
    expect(description() == "tide 2" and state()["state"] == "running", "and the old one runs")
    told("a version that does not come up is undone by itself")
    inside("hambrel", "services", "stop", "tidelog")
    expect(state()["state"] == "stopped", "it can be stopped")
    inside("hambrel", "services", "start", "tidelog")
    inside("hambrel", "services", "disable", "tidelog", "-y")
    expect(inside("systemctl", "is-enabled", "tidelog", code=1).strip() == "disabled", "and disabled")
    expect("Service tidelog: stopped" in inside("hambrel", "remove", "tidelog", "-y"), "a removal stops it")
    expect("could not be found" in inside("systemctl", "status", "tidelog", "--no-pager", code=4), "its unit is gone")
    told("all as it should be")
    return 0


if not os.path.exists(SYSTEMD) or os.geteuid() != 0 or \
        subprocess.run(["unshare", "-mpn", "--fork", "true"], capture_output=True).returncode != 0:
    print("systemd: it is not there, or no namespaces are")
    sys.exit(77)
try:
    result = main()
finally:
    if system is not None:
        system.send_signal(signal.SIGKILL)
        system.wait()
    shutil.rmtree(TOP, ignore_errors=True)
sys.exit(result)
