"""screens.py PROGRAM GOLDEN-DIRECTORY [write]: the main screens on terminals of 80 and 140 columns, as they must look.

Plays a part of the demo's story and runs each command on a pseudo-terminal; compares with GOLDEN-DIRECTORY/NAME.COLUMNS,
and for one of them with its colours, or writes these files. Times and digests stand as zeros in them.
"""
import difflib
import fcntl
import os
import pathlib
import pty
import re
import shutil
import struct
import subprocess
import sys
import termios

program, golden = sys.argv[1], pathlib.Path(sys.argv[2])
write = len(sys.argv) > 3
source = pathlib.Path(__file__).resolve().parents[2]
# a path of the same length in every run, as lines are fitted to the terminal with it
work = pathlib.Path("/tmp/skerry-screens")
shutil.rmtree(work, ignore_errors=True)
(work / "root").mkdir(parents=True)
environment = {"PATH": "/usr/bin:/bin", "HAMBREL": program, "TERM": "xterm", "TZ": "UTC", "LC_ALL": "C.UTF-8",
               "HOME": str(work), "PAGER": ""}
subprocess.run([source / "demo/build-world.sh", work / "world"], check=True, capture_output=True, env=environment)


def quietly(*words, code=0):
    ran = subprocess.run([program, "--root", "root", *words], cwd=work, env=environment, capture_output=True, text=True)
    assert ran.returncode == code, (words, ran.returncode, ran.stdout, ran.stderr)


def screen(columns, color, words):
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(work)
        fcntl.ioctl(0, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
        os.execve(program, ["hambrel", "--root", "root", "--color", color, *words], environment)
    shown = b""
    while True:
        try:
            piece = os.read(terminal, 65536)
        except OSError:
            break
        if not piece:
            break
        shown += piece
    os.waitpid(child, 0)
    text = re.sub("\r\x1b\\[K|.*\r\x1b\\[K", "", shown.decode()).replace("\r\n", "\n")
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d", "0000-00-00 00:00", text)
    text = re.sub(r"\b[0-9a-f]{64}\b", "0" * 64, text)
    return text.replace("\x1b", "^")


wrong = 0


def check(name, *words, columns=(80, 140), color="never"):
    global wrong
    for width in columns:
        shown = screen(width, color, words)
        for line in re.sub(r"\^\[[0-9;]*m", "", shown).split("\n"):
            if len(line) > width and " " in line.strip() and "hambrel " not in line:
                print(f"{name}: wider than {width} columns: {line}")
                wrong += 1
        file = golden / f"{name}.{width}"
        if write:
            file.write_text(shown)
        elif not file.exists() or file.read_text() != shown:
            wrong += 1
            before = file.read_text() if file.exists() else ""
            print("\n".join(difflib.unified_diff(before.split("\n"), shown.split("\n"), str(file.name), "shown", lineterm="")))


for one in ("skerry-base", "skerry-harbour"):
    quietly("repo", "add", one, f"file://{work}/world/{one}")
quietly("refresh")
check("tasks")
check("help", "help")
check("search", "search", "tide")
check("describe", "describe", "lampdesk")
check("install", "install", "lampdesk", "tidewatch", "--dry-run")
check("install-many", "install", "chartd", "lampdesk", "tidewatch", "brinewall", "moorlog", "pilot-tools", "harbour-menu",
      "lamp-alert", "lampdesk-plugins-fog", "gullcam", "bell-buoy", "--dry-run")
quietly("install", "lampdesk=5.4.1", "tidewatch=2.0", "saltdb=1.8", "foghorn", "--yes", "--reason", "first set-up")
config = work / "root/etc/tidewatch.conf"
config.write_text(config.read_text().replace("north-pier", "inner-basin"))
quietly("hold", "saltdb", "--yes", "--reason", "the tide office reads its files")
check("list", "list")
check("upgrade", "upgrade", "--dry-run")
check("upgrade-colour", "upgrade", "--dry-run", columns=(80,), color="always")
quietly("install", "gullcam", "--yes")
check("refusal", "install", "lampdesk@beta", "--dry-run")
check("why", "why", "libbuoy")
quietly("upgrade", "--yes")
check("configs", "configs")
check("configs-diff", "configs", "diff", "/etc/tidewatch.conf")
check("settle", "configs", "settle", "--configs", "merge", "--dry-run")
check("ledger", "ledger")
check("ledger-show", "ledger", "show", "1")
check("undo", "undo", "4", "--dry-run")
(work / "root/usr/bin/tidewatch").unlink()
check("verify", "verify")
check("tidy", "tidy")
check("error", "install", "lampdsk", "--dry-run")
shutil.rmtree(work)
sys.exit(1 if wrong else 0)
