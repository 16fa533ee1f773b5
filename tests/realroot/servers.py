"""servers.py PROGRAM [SECONDS [CLIENTS]] - a repository behind real web servers: nginx with TLS by an authority of its own and
HTTP/2, compressed answers, mirrors that answer 404 and 500; python's http.server, which knows no ranges; tinyproxy, with a
password; and CLIENTS (8) that refresh and upgrade for SECONDS (6) while new versions are published all the time."""
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time

program = os.path.abspath(sys.argv[1])
seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 6
clients = int(sys.argv[3]) if len(sys.argv) > 3 else 8
nginx = shutil.which("nginx", path=os.environ["PATH"] + ":/usr/sbin")
if not nginx or not shutil.which("tinyproxy") or not shutil.which("openssl"):
    print("servers: nginx, tinyproxy and openssl are needed", file=sys.stderr)
    sys.exit(77)
place = tempfile.mkdtemp(prefix="hambrel-servers.")
repo, keys = f"{place}/repo", f"{place}/keys"
running = []


def run(*words, code=0, **more):
    ran = subprocess.run(words, capture_output=True, text=True, **more)
    if code is not None and ran.returncode != code:
        raise AssertionError(f"{' '.join(words)}: {ran.returncode}, not {code}\n{ran.stdout}\n{ran.stderr}")
    return ran


def hambrel(root, *words, code=0):
    return run(program, "--root", root, *words, code=code)


def pack(name, version, files, requires=()):
    tree = f"{place}/tree"
    shutil.rmtree(tree, ignore_errors=True)
    for path, content in files.items():
        os.makedirs(os.path.dirname(f"{tree}/root/{path}"), exist_ok=True)
        with open(f"{tree}/root/{path}", "wb") as out:
            out.write(content)
        os.utime(f"{tree}/root/{path}", (1_700_000_000, 1_700_000_000))
    with open(f"{tree}/package.toml", "w") as out:
        out.write(f'name = "{name}"\nversion = "{version}"\narch = "independent"\nsummary = "{name}"\n')
        out.write(f"[relations]\nrequires = {list(requires)!r}\n")
    to = f"{repo}/packages/{name}/{version}.independent.hambrel"
    os.makedirs(os.path.dirname(to), exist_ok=True)
    run(program, "pack", "-q", "--level", "1", tree, "-o", to + ".new")
    os.rename(to + ".new", to)


def publish(*more):
    return run(program, "publish", repo, "--keys", keys, *more)


def free_port():
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


def start_nginx():
    run("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "2", "-subj", "/CN=skerry",
        "-addext", "subjectAltName=IP:127.0.0.1", "-keyout", f"{place}/tls.key", "-out", f"{place}/authority.pem")
    tls, plain = free_port(), free_port()
    locations = f"location /none/ {{ return 404; }} location /broken/ {{ return 500; }} location /repo/ {{ root {place}; }}"
    with open(f"{place}/nginx.conf", "w") as out:
        out.write(f"""pid {place}/nginx.pid; error_log {place}/error.log; worker_processes 2;
{"user root;" if os.geteuid() == 0 else ""}
events {{ worker_connections 1024; }}
http {{
  log_format told '$server_protocol $status $body_bytes_sent $request_method $uri "$http_range" "$sent_http_content_encoding" "$http_via"';
  access_log {place}/access.log told;
  default_type application/octet-stream; types {{ application/json json; }}
  gzip on; gzip_min_length 1; gzip_types application/json application/octet-stream;
  client_body_temp_path {place}/b; proxy_temp_path {place}/p; fastcgi_temp_path {place}/f; uwsgi_temp_path {place}/u; scgi_temp_path {place}/s;
  server {{ listen 127.0.0.1:{plain}; {locations} }}
  server {{ listen 127.0.0.1:{tls} ssl http2; ssl_certificate {place}/authority.pem; ssl_certificate_key {place}/tls.key; {locations} }}
}}
""")
    run(nginx, "-p", place, "-e", f"{place}/error.log", "-c", f"{place}/nginx.conf")
    return f"https://127.0.0.1:{tls}", f"http://127.0.0.1:{plain}"


def logged():
    """What nginx was asked since this was called last, a line each."""
    time.sleep(0.1)
    with open(f"{place}/access.log") as log:
        lines = log.read().splitlines()
    open(f"{place}/access.log", "w").close()
    return lines


def root_with(name, text):
    root = f"{place}/{name}"
    os.makedirs(f"{root}/etc/hambrel/repos", exist_ok=True)
    with open(f"{root}/etc/hambrel/repos/skerry.toml", "w") as out:
        out.write(text)
    shutil.copy(f"{place}/authority.pem", f"{root}/etc/hambrel/authority.pem")
    run(program, "--root", root, "repo", "trust", "skerry", "--fingerprint", fingerprint)
    return root


def says(text):
    print(f"servers: {text}", flush=True)


def over_tls():
    root = f"{place}/tls"
    os.makedirs(f"{root}/etc/hambrel")
    failed = hambrel(root, "repo", "add", f"{https}/repo", "skerry", "--fingerprint", fingerprint, code=None)
    assert failed.returncode == 1 and "authority" in failed.stderr, failed.stderr
    shutil.rmtree(root)
    root = root_with("tls", f'url = "{https}/repo"\nauthority = "/etc/hambrel/authority.pem"\n')
    logged()
    hambrel(root, "refresh")
    hambrel(root, "install", "charts", "lamp", "-y")
    lines = logged()
    assert lines and all(line.startswith("HTTP/2.0 ") for line in lines), lines
    says("TLS by an authority of its own, over HTTP/2")
    assert not any('"gzip"' in line for line in lines), "what has a length and a digest is asked for as it is"
    time.sleep(2.1)  # a file may change twice in a second: until then what the server says of it is not relied on
    hambrel(root, "refresh")
    logged()
    hambrel(root, "refresh")
    lines = logged()
    assert [line.split()[1] for line in lines] == ["304"], lines
    says("a refresh with nothing new is one conditional request")
    return root


def over_mirrors():
    root = root_with("mirrors", f'mirrors = ["{http}/broken", "{http}/none", "{http}/repo"]\n')
    hambrel(root, "refresh")
    hambrel(root, "install", "lamp", "-y")
    shown = hambrel(root, "repo", "show", "skerry").stdout
    assert "500" in shown, shown
    says("mirrors that answer 404 and 500 are passed by, and told")


def a_part_of_a_package(root):
    pack("charts", "2-1", dict(charts, **{"usr/share/charts/7": os.urandom(70_000)}))
    publish()
    hambrel(root, "refresh")
    logged()
    hambrel(root, "upgrade", "-y")
    asked = [line.split() for line in logged() if "/packages/charts/" in line]
    assert asked and all(one[1] == "206" for one in asked), asked
    sent = sum(int(one[2]) for one in asked)
    whole = os.path.getsize(f"{repo}/packages/charts/2-1.independent.hambrel")
    assert sent < whole / 10, (sent, whole)
    hambrel(root, "verify")
    says(f"an upgrade of which a thirtieth has changed fetches {sent * 100 // whole} % of the package, by ranges")


def without_ranges():
    class Quiet(SimpleHTTPRequestHandler):
        def __init__(self, *words, **more):
            super().__init__(*words, directory=repo, **more)

        def log_message(self, *_):
            pass

    class Server(ThreadingHTTPServer):
        def handle_error(self, *_):
            pass  # whoever has what he wants hangs up

    server = Server(("127.0.0.1", 0), Quiet)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    root = root_with("python", f'url = "http://127.0.0.1:{server.server_address[1]}"\n')
    hambrel(root, "refresh")
    hambrel(root, "install", "charts=1-1", "-y")
    ran = hambrel(root, "upgrade", "-y")
    assert "whole files" in ran.stderr, ran.stderr
    hambrel(root, "verify")
    server.shutdown()
    says("a server without ranges sends whole files, and everything works")


def through_a_proxy():
    port = free_port()
    with open(f"{place}/tinyproxy.conf", "w") as out:
        out.write(f'Port {port}\nListen 127.0.0.1\nTimeout 60\nMaxClients 50\nLogFile "{place}/tinyproxy.log"\nViaProxyName "skerry"\n'
                  f"BasicAuth keeper lamp-7-secret\nConnectPort {https.rsplit(':', 1)[1]}\n")
    proxy = subprocess.Popen(["tinyproxy", "-d", "-c", f"{place}/tinyproxy.conf"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    running.append(proxy)
    for _ in range(1200):
        if subprocess.run(["bash", "-c", f"exec 3<>/dev/tcp/127.0.0.1/{port}"], capture_output=True).returncode == 0:
            break
        time.sleep(0.05)
    for url, how in ((http, "plain"), (https, "through a tunnel")):
        text = f'url = "{url}/repo"\nproxy = "http://127.0.0.1:{port}"\nauthority = "/etc/hambrel/authority.pem"\n'
        try:
            root_with("locked-out", text)
        except AssertionError as refused:
            assert "407" in str(refused), refused
        name = "proxy-" + url.split(":")[0]
        secret = f"{place}/{name}/etc/hambrel/repos/skerry.credentials"
        os.makedirs(os.path.dirname(secret))
        with open(secret, "w") as out:
            out.write('proxy_user = "keeper"\nproxy_password = "lamp-7-secret"\n')
        os.chmod(secret, 0o600)
        root = root_with(name, text)
        logged()
        hambrel(root, "refresh")
        hambrel(root, "install", "lamp", "-y")
        lines = logged()
        assert url == https or all("skerry" in line.rsplit('"', 2)[1] for line in lines), lines
        found = subprocess.run(["grep", "-rl", "lamp-7-secret", root], capture_output=True, text=True).stdout.split()
        assert found == [secret], found
        says(f"a proxy that asks for a password, {how}")


def while_it_is_replaced():
    """Two packages are always published together, in the same version: whoever sees half of it can't upgrade."""
    def both(number):
        pack("port", f"{number}-1", {"usr/share/port": str(number).encode()}, [f"starboard = {number}-1"])
        pack("starboard", f"{number}-1", {"usr/share/starboard": str(number).encode()})
    with open(f"{repo}/repository.toml", "w") as out:
        out.write("keep = 5\n")
    both(1)
    publish()
    roots = [root_with(f"client-{i}", f'url = "{http}/repo"\n') for i in range(clients)]
    for root in roots:
        hambrel(root, "refresh")
        hambrel(root, "install", "port", "-y")
    failures, rounds, until = [], [0] * clients, time.time() + seconds

    def client(i):
        while time.time() < until:
            for words in (("refresh",), ("upgrade", "-y")):
                ran = hambrel(roots[i], *words, code=None)
                if ran.returncode != 0:
                    failures.append(f"{words}: {ran.returncode}\n{ran.stdout}{ran.stderr}")
            with open(f"{roots[i]}/usr/share/port") as one, open(f"{roots[i]}/usr/share/starboard") as other:
                if one.read() != other.read():
                    failures.append("half of it was installed")
            rounds[i] += 1

    threads = [threading.Thread(target=client, args=(i,)) for i in range(clients)]
    for thread in threads:
        thread.start()
    number = 1
    while time.time() < until:
        number += 1
        both(number)
        publish()
    for thread in threads:
        thread.join()
    assert not failures, f"{len(failures)} failures, the first: {failures[0]}"
    for root in roots:
        hambrel(root, "verify")
    says(f"{clients} clients refreshed and upgraded {sum(rounds)} times while {number} versions were published: no failure")


try:
    os.makedirs(keys)
    for role in ("root", "targets", "snapshot", "timestamp"):
        run(program, "key", "new", f"{keys}/{role}.key", "-q")
    charts = {f"usr/share/charts/{i}": os.urandom(70_000) for i in range(30)}
    pack("charts", "1-1", charts)
    pack("lamp", "1-1", {"usr/bin/lamp": b"lamp"})
    fingerprint = json.loads(publish("--init", "--json").stdout)["fingerprint"]
    https, http = start_nginx()
    root = over_tls()
    over_mirrors()
    a_part_of_a_package(root)
    without_ranges()
    through_a_proxy()
    while_it_is_replaced()
finally:
    for one in running:
        one.terminate()
    if os.path.exists(f"{place}/nginx.pid"):
        with open(f"{place}/nginx.pid") as pid:
            os.kill(int(pid.read()), signal.SIGTERM)
    shutil.rmtree(place, ignore_errors=True)
