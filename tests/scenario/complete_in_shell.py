"""complete_in_shell.py PROGRAM SHELL LINE: what SHELL makes of LINE and a tab, with the completion that PROGRAM prints.

Types into the real shell on a pseudo-terminal of 200 columns and prints what it showed; <LINE> is the line as it stands
afterwards. fish is asked by its own `complete -C`.
"""
import atexit
import fcntl
import os
import pty
import re
import select
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
import time

program, shell, line = sys.argv[1:]
directory = tempfile.mkdtemp()
atexit.register(shutil.rmtree, directory, ignore_errors=True)
os.symlink(program, os.path.join(directory, "hambrel"))
environment = {"PATH": f"{directory}:{os.environ['PATH']}", "HOME": directory, "TERM": "dumb", "LC_ALL": "C.UTF-8"}
with open(os.path.join(directory, "script"), "w", encoding="utf-8") as script:
    script.write(subprocess.run([program, "completion", shell], check=True, capture_output=True, text=True).stdout)

if shell == "fish":
    ask = 'source ~/script; complete -C "$argv[1]"'
    print(subprocess.run(["fish", "--no-config", "-c", ask, line], env=environment, capture_output=True, text=True).stdout)
    sys.exit(0)

SETUP = {
    "bash": r"""PS1=; bind 'set show-all-if-ambiguous on'; bind 'set completion-query-items 0'; bind 'set page-completions off'
bind -x '"\C-g": printf "<%s>" "$READLINE_LINE"'; source ~/script; echo READ""" + "Y",
    "zsh": r"""PROMPT=; RPROMPT=; autoload -U compinit; compinit -u -D; source ~/script; LISTMAX=10000
dump() { print -rn -- "<$BUFFER>" }; zle -N dump; bindkey '^G' dump; setopt no_list_beep; echo READ""" + "Y",
}
child, terminal = pty.fork()
if child == 0:
    os.execvpe(shell, {"bash": ["bash", "--noprofile", "--norc", "-i"], "zsh": ["zsh", "-f", "-i"]}[shell], environment)
fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 50, 200, 0, 0))


def read_until(pattern, seconds=20):
    text, end = "", time.monotonic() + seconds
    while not re.search(pattern, text) and time.monotonic() < end:
        if select.select([terminal], [], [], 0.1)[0]:
            try:
                text += os.read(terminal, 65536).decode(errors="replace")
            except OSError:
                break
    return text


for one in SETUP[shell].replace("READY", "READ''Y").split("\n"):
    os.write(terminal, one.encode() + b"\n")
read_until("READY\r?\n")
os.write(terminal, line.encode() + b"\t")
shown = read_until("\x00", 0.5)
os.write(terminal, b"\x07")
shown += read_until("<[^>]*>|<.*>")
os.kill(child, 9)
print(shown)
