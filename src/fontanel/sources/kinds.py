"""Every kind of source, by name."""

from __future__ import annotations

from fontanel.sources import bucket, database, dav, feed, folder, push, repository, site
from fontanel.sources.protocol import Kind

KINDS: dict[str, Kind] = {
    module.KIND.name: module.KIND for module in (folder, site, bucket, dav, feed, repository, database, push)
}
