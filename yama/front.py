"""The front: the server that the world speaks to, nginx, and how it is told what to do.

It takes what comes slowly and hands it on at once when it is whole, so that no request thread ever waits for a client: half
a header, an upload over a weak line and a download that nobody reads cost a connection each and nothing else. It hands out
the desk's own files by itself.
"""

from __future__ import annotations

import os
import pwd
from pathlib import Path

_HEADER_SECONDS = 10
_BODY_SECONDS = 20  # between two pieces of a body
_CONNECTIONS = 4096
_BROTLI = Path("/usr/lib/nginx/modules/ngx_http_brotli_static_module.so")

_TEMPLATE = """\
daemon off;
worker_processes 1;
pid {var}/front/nginx.pid;
error_log stderr warn;
{user}
{brotli}
events {{ worker_connections {connections}; }}
http {{
  include /etc/nginx/mime.types;
  default_type application/octet-stream;
  server_tokens off;
  access_log off;
  sendfile on;
  client_body_temp_path {var}/front/body;
  proxy_temp_path {var}/front/proxy;
  fastcgi_temp_path {var}/front/none;
  uwsgi_temp_path {var}/front/none;
  scgi_temp_path {var}/front/none;
  client_header_timeout {header}s;
  client_body_timeout {body}s;
  send_timeout 60s;
  keepalive_timeout 60s;
  reset_timedout_connection on;
  large_client_header_buffers 4 16k;
  client_body_buffer_size 256k;
  client_max_body_size {small}m;
  proxy_max_temp_file_size 16384m;
  proxy_read_timeout 130s;
  proxy_http_version 1.1;
  proxy_set_header Host $http_host;
  proxy_set_header X-Real-IP $remote_addr;
  proxy_set_header Connection "";
  upstream desk {{ server unix:{socket}; }}
  server {{
    listen 127.0.0.1:{port} backlog=1024;
    if ($request_method !~ ^(GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS)$) {{ return 405; }}
    error_page 400 414 494 /said/400;
    error_page 405 /said/405;
    error_page 413 /said/413;
    error_page 500 507 =503 /said/500;
    error_page 502 503 504 =503 /said/503;
    location ~ /\\. {{ return 404; }}
    location /static/ {{
      alias {static}/;
      gzip_static on;
      {brotli_static}
      add_header X-Content-Type-Options nosniff;
      add_header Cache-Control "public, max-age=60";
      location ~ "^/static/(assets/.+-[A-Za-z0-9_-]{{8}}\\.[a-z0-9]+)$" {{
        alias {static}/$1;
        gzip_static on;
        {brotli_static}
        add_header X-Content-Type-Options nosniff;
        add_header Cache-Control "public, max-age=31536000, immutable";
      }}
    }}
    location ~ ^/api/(projects/[0-9]+/uploads|frames/extent)$ {{
      client_max_body_size {large}m;
      auth_request /may-send;
      proxy_pass http://desk;
    }}
    location = /may-send {{
      internal;
      proxy_pass http://desk/api/accounts/me;
      proxy_method GET;
      proxy_pass_request_body off;
      proxy_set_header Content-Length "";
      proxy_set_header Host $http_host;
      proxy_set_header X-Real-IP $remote_addr;
    }}
    location /said/ {{
      internal;
      default_type application/json;
      location = /said/400 {{ return 400 '{{"detail": "This is no request that is answered here."}}'; }}
      location = /said/405 {{ return 405 '{{"detail": "Requests of this kind are not answered."}}'; }}
      location = /said/413 {{ return 413 '{{"detail": "That is larger than what is taken in at once."}}'; }}
      # who may send could not be asked, or there is no room for what is sent
      location = /said/500 {{ return 503 '{{"detail": "The server could not take that: it is starting, or its disk is full. Try again in a moment; if it stays so, tell whoever looks after it."}}'; }}
      location = /said/503 {{ add_header Retry-After 2 always; return 503 '{{"detail": "Yama is starting. Try again in a moment."}}'; }}
    }}
    location / {{ proxy_pass http://desk; }}
  }}
}}
"""


def configuration(var: Path, port: int, socket: Path, static: Path, upload_mb: int, request_mb: int) -> str:
    """What nginx is told: to listen on loopback at `port`, to hand on to `socket`, and to hand out `static`."""
    has_brotli = _BROTLI.exists()
    return _TEMPLATE.format(
        var=var, port=port, socket=socket, static=static, large=upload_mb + 1, small=request_mb + 1,
        connections=_CONNECTIONS, header=_HEADER_SECONDS, body=_BODY_SECONDS,
        # as root it would hand its work to somebody who may not read these files
        user=f"user {pwd.getpwuid(os.geteuid()).pw_name};" if os.geteuid() == 0 else "",
        brotli=f"load_module {_BROTLI};" if has_brotli else "", brotli_static="brotli_static on;" if has_brotli else "",
    )  # fmt: skip


def write(var: Path, text: str) -> Path:
    """Write the configuration and the folders it names; returns where it is."""
    folder = var / "front"
    for path in (folder, folder / "body", folder / "proxy", folder / "none"):
        path.mkdir(mode=0o700, exist_ok=True)
    path = folder / "nginx.conf"
    path.write_text(text, encoding="utf-8")
    path.chmod(0o600)
    return path
