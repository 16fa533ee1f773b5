"""with_https.py DIRECTORY REPOSITORY COMMAND...: runs COMMAND beside two servers of REPOSITORY.

One speaks https with a certificate made in DIRECTORY, which COMMAND trusts (it stands in the place of the system's own
list, in a mount namespace of its own); below /away/ it redirects to the other one, which speaks plain http. HTTPS in
the words of COMMAND becomes the first one's address. Ends with the command's code, and says on standard error how often
the plain one was asked; with code 77 where this process may not mount anything.
"""
import functools
import http.server
import os
import ssl
import subprocess
import sys
import threading

SYSTEM_LIST = "/etc/ssl/certs/ca-certificates.crt"
directory, repository, *command = sys.argv[1:]
certificate, key = os.path.join(directory, "certificate.pem"), os.path.join(directory, "key.pem")
asked = 0


class Plain(http.server.SimpleHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def do_GET(self):
        global asked
        asked += 1
        super().do_GET()


class Secure(Plain):
    def do_GET(self):
        if not self.path.startswith("/away/"):
            return http.server.SimpleHTTPRequestHandler.do_GET(self)
        self.send_response(302)
        self.send_header("Location", f"http://127.0.0.1:{plain.server_port}/{self.path.removeprefix('/away/')}")
        self.send_header("Content-Length", "0")
        self.end_headers()


def server(handler):
    return http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(handler, directory=repository))


subprocess.run(["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", certificate,
                "-days", "2", "-subj", "/CN=127.0.0.1", "-addext", "subjectAltName=IP:127.0.0.1"],
               check=True, capture_output=True)
plain, secure = server(Plain), server(Secure)
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(certificate, key)
secure.socket = context.wrap_socket(secure.socket, server_side=True)
for one in (plain, secure):
    threading.Thread(target=one.serve_forever, daemon=True).start()

apart = ["unshare", "--mount"] if os.geteuid() == 0 else ["unshare", "--mount", "--map-root-user"]
mount = [*apart, "mount", "--bind", certificate, SYSTEM_LIST]
if not os.path.exists(SYSTEM_LIST) or subprocess.run(mount, capture_output=True).returncode != 0:
    sys.exit(77)
words = [word.replace("HTTPS", f"https://127.0.0.1:{secure.server_port}") for word in command]
script = 'mount --bind "$0" ' + SYSTEM_LIST + ' && exec "$@"'
code = subprocess.run([*apart, "sh", "-c", script, certificate, *words]).returncode
print(f"plain http was asked {asked} times", file=sys.stderr)
sys.exit(code)
