"""Every kind of source, by name."""

from __future__ import annotations

from fontanel.sources import bucket, database, feed, folder, push, repository, site, webdav
from fontanel.sources.protocol import Kind

KINDS: dict[str, Kind] = {
    module.KIND.name: module.KIND
    for module in (folder, site, bucket, webdav, feed, repository, database, push)
}
