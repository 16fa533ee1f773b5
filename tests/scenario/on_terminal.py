#!/usr/bin/env python3
"""on_terminal.py ANSWERS COMMAND... - runs a command on a terminal of 100 columns and answers its questions.

ANSWERS are separated by '|'. Each is typed when the output ends with "> ", as every question does; after the last one
the input ends. Prints what the terminal shows; exits as the command does.
"""
import os, pty, re, select, struct, sys, fcntl, termios

answers = [answer + "\n" for answer in sys.argv[1].split("|")] if sys.argv[1] else []
child, terminal = pty.fork()
if child == 0:
    os.environ["TERM"] = "dumb"
    os.execvp(sys.argv[2], sys.argv[2:])
fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 50, 100, 0, 0))
shown = b""
while True:
    try:
        piece = os.read(terminal, 65536)
    except OSError:
        break
    if not piece:
        break
    shown += piece
    plain = re.sub(rb"\x1b\[[0-9;]*m", b"", shown)
    if plain.endswith(b"> ") and not select.select([terminal], [], [], 0.05)[0]:
        os.write(terminal, answers.pop(0).encode() if answers else b"\x04")
sys.stdout.buffer.write(shown.replace(b"\r\n", b"\n"))
sys.exit(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
