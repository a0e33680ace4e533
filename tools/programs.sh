#!/usr/bin/env bash
# Debian's programs that the tests use for real: there already, installed when root, otherwise a clear message.
set -euo pipefail
missing=()
command -v chromium >/dev/null || missing+=(chromium)
command -v git >/dev/null || missing+=(git)
command -v postgres >/dev/null || compgen -G "/usr/lib/postgresql/*/bin/postgres" >/dev/null || missing+=(postgresql)
command -v faketime >/dev/null || missing+=(faketime)
[[ -x /usr/sbin/dovecot ]] || missing+=(dovecot-imapd)
command -v prosody >/dev/null || missing+=(prosody)
command -v nginx >/dev/null || [[ -x /usr/sbin/nginx ]] || missing+=(nginx)
command -v systemd-analyze >/dev/null || missing+=(systemd)
[[ ${#missing[@]} == 0 ]] && exit 0
if [[ $(id -u) == 0 ]] && command -v apt-get >/dev/null; then
  echo "Installing Debian's ${missing[*]} for the tests ..."
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
else
  echo "The tests need ${missing[*]}. Install them, for instance with: sudo apt-get install ${missing[*]}" >&2
  exit 1
fi
