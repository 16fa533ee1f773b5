#!/usr/bin/env bash
# nginx.sh DIR RUNDIR - serves DIR by nginx on a free port of 127.0.0.1, unprivileged where it can be; prints the URL.
# The server's process id is in RUNDIR/nginx.pid. Exit 1 where there is no nginx.
set -euo pipefail
served=$1 run=$2
nginx=$(PATH=$PATH:/usr/sbin command -v nginx) || exit 1
mkdir -p "$run"
for _ in 1 2 3 4 5 6 7 8 9 10; do
  port=$((20000 + RANDOM % 30000))
  cat >"$run/nginx.conf" <<CONF
pid $run/nginx.pid;
error_log $run/error.log;
worker_processes 1;
$( ((EUID == 0)) && echo "user $(id -un);")
events { worker_connections 64; }
http {
  access_log $run/access.log;
  default_type application/octet-stream;
  client_body_temp_path $run/body; proxy_temp_path $run/proxy; fastcgi_temp_path $run/fastcgi;
  uwsgi_temp_path $run/uwsgi; scgi_temp_path $run/scgi;
  server { listen 127.0.0.1:$port; root $served; }
}
CONF
  if "$nginx" -p "$run" -e "$run/error.log" -c "$run/nginx.conf" 2>>"$run/start.log"; then
    echo "http://127.0.0.1:$port"
    exit 0
  fi
done
cat "$run/start.log" >&2
exit 1
