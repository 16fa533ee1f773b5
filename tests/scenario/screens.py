"""screens.py PROGRAM GOLDEN-DIRECTORY [write]: the main screens on terminals of 80 and 140 columns, as they must look,
and messages.txt: what people are told in each of many situations, for whoever reads all of it once more.

Plays a part of the demo's story and runs each command on a pseudo-terminal; compares with GOLDEN-DIRECTORY/NAME.COLUMNS,
and for one of them with its colours, or writes these files. Times and digests stand as zeros in them.
"""
import difflib
import fcntl
import http.server
import os
import pathlib
import pty
import re
import resource
import shutil
import signal
import sqlite3
import struct
import subprocess
import sys
import termios
import threading

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


def added(name, where=None):
    """The words that add a repository of the world with its fingerprint."""
    return ("repo", "add", name, where or f"file://{work}/world/{name}", "--fingerprint",
            (work / f"keys/{name}.fingerprint").read_text().strip())


def without_what_changes(text):
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d", "0000-00-00 00:00", text)
    text = re.sub(r"\b[0-9a-f]{64}\b", "0" * 64, text)
    text = re.sub(r"\b[0-9a-f]{4}( [0-9a-f]{4}){7}\b", " ".join(["0000"] * 8), text)
    text = re.sub(r"\b[0-9a-f]{16}\b", "0" * 16, text)
    return re.sub(r"good until \d{4}-\d\d-\d\d", "good until 0000-00-00", text)


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
    text = without_what_changes(text)
    text = re.sub(r"took        \d s", "took        less than a second", text)
    return text.replace("\x1b", "^")


messages = []


def message(situation, *words, code=None, output=subprocess.PIPE, begin=None):
    """What is said without a terminal, with the exit code."""
    ran = subprocess.run([program, "--root", "root", *words], cwd=work, env=environment, stdout=output,
                         stderr=subprocess.PIPE, text=True, preexec_fn=begin)
    assert code is None or ran.returncode == code, (words, ran)
    text = without_what_changes((ran.stdout or "") + ran.stderr)
    words = [re.sub(r":\d+/", ":PORT/", word) for word in words]
    text = re.sub(r"with \d+ bytes remaining", "with 0 bytes remaining", text)
    text = re.sub(r"127\.0\.0\.1:\d+|127\.0\.0\.1 port \d+", "127.0.0.1:PORT", text)
    text = re.sub(r"after \d+ ms", "after 0 ms", re.sub(r"process \d+, \w+", "process 0, ada", text))
    words = without_what_changes(" ".join(words))
    messages.append(f"# {situation}\n$ hambrel {words}   [{ran.returncode}]\n{text}")


class Faults(http.server.SimpleHTTPRequestHandler):
    """A server of files on which something is wrong."""
    fault = ""

    def do_GET(self):
        content = (work / "world" / self.path.lstrip("/")).read_bytes() if self.fault != "missing" else b""
        if self.fault in ("missing", "broken"):
            return self.send_error(404 if self.fault == "missing" else 500)
        if self.fault == "elsewhere":
            self.send_response(302)
            self.send_header("Location", "file:///etc/passwd")
            return self.end_headers()
        if self.fault == "damaged":
            content = content[:-40] + bytes(40)
        self.send_response(200)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content[:len(content) // 2] if self.fault == "cut" else content)

    def log_message(self, *_):
        pass


def with_fault(situation, fault, *words):
    Faults.fault = fault
    message(situation, *words)


def small_files():
    """From here on no file takes more than so many bytes, as on a disk that is nearly full."""
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (64 << 10, 64 << 10))


def hold_lock():
    """Another run that holds the lock until its input ends."""
    lock = open(work / "root/var/lib/hambrel/private/lock", "r+")
    fcntl.flock(lock, fcntl.LOCK_EX)
    lock.write("`hambrel upgrade` (process 4711, ada, since 2026-01-01 00:00)\n")
    lock.flush()
    return lock


wrong = 0


def check(name, *words, columns=(80, 140), color="never"):
    global wrong
    for width in columns:
        shown = screen(width, color, words)
        for line in re.sub(r"\^\[[0-9;]*m", "", shown).split("\n"):
            if len(line) > width and " " in line.strip() and "hambrel " not in line and name != "error":
                print(f"{name}: wider than {width} columns: {line}")
                wrong += 1
        file = golden / f"{name}.{width}"
        if write:
            file.write_text(shown)
        elif not file.exists() or file.read_text() != shown:
            wrong += 1
            before = file.read_text() if file.exists() else ""
            print("\n".join(difflib.unified_diff(before.split("\n"), shown.split("\n"), str(file.name), "shown", lineterm="")))


message("no repository is set up", "install", "lampdesk", "--yes")
message("refreshed without repositories", "refresh")
message("nothing is installed", "list")
message("nothing was ever changed", "ledger")
message("nothing to verify", "verify")
message("a signed repository is added, and nobody can be asked", "repo", "add", "skerry-harbour",
        f"file://{work}/world/skerry-harbour")
message("it is added with its fingerprint", *added("skerry-harbour"))
message("with another one's", *added("skerry-base", f"file://{work}/world/skerry-harbour"))
message("it is not signed", "repo", "add", "cove", f"file://{work}/world/cove-workshop")
message("it is not signed, and that is accepted", "repo", "add", "cove", f"file://{work}/world/cove-workshop", "--unsigned")
message("there is none", "repo", "add", "nothing", f"file://{work}/world/loose")
quietly("repo", "drop", "cove")
message("its name is taken", "repo", "add", "skerry-harbour", "http://127.0.0.1/x")
message("its URL is none", "repo", "add", "somewhere", "other")
message("its rank is none", "repo", "add", "other", "http://127.0.0.1/x", "--rank", "100")
message("its name is none", "repo", "add", "Other", "http://127.0.0.1/x")
message("there is no such repository", "repo", "drop", "nowhere")
message("a subcommand is misspelt", "repo", "lst")
quietly("repo", "drop", "skerry-harbour")
for one in ("skerry-base", "skerry-harbour"):
    quietly(*added(one), "--no-refresh")
message("not refreshed yet", "search", "lamp")
quietly("refresh")
check("repo-show", "repo", "show", "skerry-base")
message("a repository is gone", "repo", "add", "gone", f"file://{work}/world/gone", "--unsigned")
message("it cannot be fetched", "refresh")
quietly("repo", "drop", "gone")
message("an unknown command", "instal", "lampdesk")
message("a word for it from elsewhere", "uninstall", "lampdesk")
message("an unknown option", "install", "--dryrun", "lampdesk")
message("an option twice", "list", "--most", "1", "--most", "2")
message("an option without its value", "list", "--most")
message("no number", "list", "--most", "many")
message("words are missing", "install")
message("too many words", "files", "lampdesk", "tidewatch")
message("an unknown package", "install", "lampdsk", "--yes")
message("an unknown package that nothing is like", "install", "xyzzy", "--yes")
message("no such version", "install", "lampdesk=9", "--yes")
message("no such channel", "install", "lampdesk@gamma", "--yes")
message("a malformed name", "install", "Lamp desk", "--yes")
message("a malformed version", "install", "lampdesk>=", "--yes")
message("no such file", "install", "./none.hambrel", "--yes")
message("a file that is no package", "install", "/etc/passwd.hambrel", "--yes")
message("a path that nobody has", "install", "/usr/bin/nothing", "--yes")
message("a pattern that matches nothing", "remove", "zz*", "--yes")
message("no terminal and no --yes", "install", "lampdesk")
message("with --json neither", "install", "lampdesk", "--json")
message("--no-files without --dry-run", "install", "lampdesk", "--no-files", "--yes")
message("no such choice", "install", "lampdesk", "--configs", "maybe", "--yes")
message("no such architecture", "install", "lampdesk", "--arch", "m68k", "--yes")
message("no such condition", "list", "installd")
message("no such key", "list", "--sort", "colour")
message("no such size", "list", "size>much")
message("no such kind", "ledger", "--kind", "bogus")
message("no such date", "ledger", "--since", "the other day")
message("no such transaction", "undo", "7", "--yes")
message("no number of a transaction", "undo", "seven", "--yes")
message("no such checkpoint", "rollback", "calm", "--yes")
message("nothing is prepared", "activate")
message("nothing to recover", "recover")
message("not installed", "remove", "lampdesk", "--yes")
message("not installed, so not downgraded", "downgrade", "lampdesk", "--yes")
message("not installed, so not held", "hold", "lampdesk", "--yes")
message("not shelved", "unshelve", "lampdesk", "--yes")
message("nobody needs it", "needed-by", "lampdesk")
message("what prevents it: nothing", "why", "lampdesk")
message("no word matches", "search", "xyzzy")
message("no regular expression", "search", "--regex", "(")
message("no topic", "help", "everything")
message("no shell", "completion", "ksh")
message("no directory to pack", "pack", "none")
message("no directory to publish", "publish", "none")
message("no directory to serve", "serve", "none")
message("no key", "key", "show", "none")
message("the file is no key", "key", "show", "/etc/hostname")
message("no directory for a key", "key", "new", "none/here")
message("nothing to sign with", "key", "sign", "/etc/hostname")
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
message("a file is damaged", "verify", code=11)
message("the plan of its repair", "repair", "--dry-run")
message("held", "install", "saltdb>=1.9", "--yes", code=3)
message("already held", "hold", "saltdb", "--dry-run")
message("installed already", "install", "lampdesk", "--yes")
message("nothing to upgrade", "upgrade", "--dry-run")
message("no older version", "downgrade", "gullcam", "--yes")
message("a package that others need", "remove", "libbuoy", "--yes")
message("others need what is to be shelved", "shelve", "libbuoy", "--yes")
message("not undone, so not redone", "redo", "1", "--yes")
quietly("undo", "3", "--yes")
message("undone already", "undo", "3", "--yes")
message("done again", "redo", "3", "--dry-run")
quietly("checkpoint", "make", "calm")
message("the checkpoint is there", "checkpoint", "make", "calm")
message("no name of a checkpoint", "checkpoint", "make", "7")
message("rolled back to where it is", "rollback", "calm", "--yes")
message("the file of another package", "install", f"{work}/world/loose/lamp-rival-0.1-1.independent.hambrel", "--yes", code=3)
message("a package file with an unknown key", "install", f"{work}/world/loose/skerry-motd-1.0-1.independent.hambrel",
        "--yes")
message("its key becomes known", "key", "add", f"{work}/keys/harbour.key.pub")
message("a package file with a known key", "install", f"{work}/world/loose/skerry-motd-1.0-1.independent.hambrel", "-n")
message("the known keys", "key", "list")
message("there is no such key", "key", "drop", "nobody")
message("no configuration of a package", "configs", "diff", "/etc/passwd")
message("no such state", "configs", "--state", "odd")
message("settled without a choice", "configs", "settle", "--yes")
message("an option of another area", "tidy", "cache", "--strict")
message("no such area", "tidy", "dust")
message("the attic within its limits", "tidy", "attic", "--dry-run")
message("the cache within its limits", "tidy", "cache", "--dry-run")
message("a state that is fine", "repair", "--rebuild", "--yes")
with open("/dev/full", "w") as full:
    message("the output can't be written", "list", output=full)
message("a file can't be written", "install", "chartd", "--yes", begin=small_files)
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Faults)
threading.Thread(target=server.serve_forever, daemon=True).start()
web = f"http://127.0.0.1:{server.server_port}"
quietly("repo", "drop", "skerry-harbour")
quietly("repo", "add", "web", f"{web}/skerry-harbour", "--unsigned")
with_fault("the repository has no documents", "missing", "refresh")
with_fault("the server fails", "broken", "refresh")
with_fault("the server closes too early", "cut", "refresh")
with_fault("a document is damaged", "damaged", "refresh")
with_fault("the server leads to a file", "elsewhere", "refresh")
with_fault("the server is well", "", "refresh")
with_fault("a package is missing", "missing", "install", "lampdesk-plugins-fog", "--yes")
with_fault("a package is damaged", "damaged", "install", "lampdesk-plugins-fog", "--yes")
with_fault("a package comes by half", "cut", "install", "lampdesk-plugins-fog", "--yes")
with_fault("the server only sends whole files", "", "install", "lampdesk-plugins-fog", "--yes")
server.shutdown()
server.server_close()
message("nobody listens", "refresh")
message("a URL of a package that nobody serves", "install", f"{web}/x.hambrel", "--yes")
message("no such protocol", "repo", "add", "old", "gopher://skerry.example/")
other = hold_lock()
message("another run is at work", "upgrade", "--yes", "--wait", "0")
other.close()
(work / "root/etc/hambrel/hambrel.toml").write_text("downloads = 99\n")
message("a wrong setting", "list")
(work / "root/etc/hambrel/hambrel.toml").write_text("download = 4\n")
message("an unknown setting", "list")
(work / "root/etc/hambrel/hambrel.toml").write_text("downloads = [\n")
message("no TOML", "list")
(work / "root/etc/hambrel/hambrel.toml").unlink()
database = sqlite3.connect(work / "root/var/lib/hambrel/state.sqlite")
database.execute("UPDATE ledger SET undo_of = id WHERE id = 3")
database.commit()
database.close()
message("a transaction undoes itself", "ledger")
(work / "root/var/lib/hambrel/state.sqlite").unlink()
message("the state is lost", "list")
message("what recreating it would do", "repair", "--rebuild", "--dry-run")

file, shown = golden / "messages.txt", "\n".join(messages)
if write:
    file.write_text(shown)
elif file.read_text() != shown:
    wrong += 1
    print("\n".join(difflib.unified_diff(file.read_text().split("\n"), shown.split("\n"), "messages.txt", "shown", lineterm="")))
shutil.rmtree(work)
sys.exit(1 if wrong else 0)
