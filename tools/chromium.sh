#!/usr/bin/env bash
# Debian's Chromium for the console's tests: there already, installed when root, otherwise a clear message.
set -euo pipefail
command -v chromium >/dev/null && exit 0
if [[ $(id -u) == 0 ]] && command -v apt-get >/dev/null; then
  echo "Installing Debian's Chromium for the console's tests ..."
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null
else
  echo "The console's tests need Chromium. Install it, for instance with: sudo apt-get install chromium" >&2
  exit 1
fi
