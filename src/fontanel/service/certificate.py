"""The certificate that the service serves HTTPS with."""

from __future__ import annotations

import ssl
from pathlib import Path

import structlog
import uvicorn

log = structlog.get_logger()


def certificate_problem(certificate: Path | None, key: Path | None) -> str:
    """Return why a certificate cannot be used; an empty string if it can, or there is none."""
    if certificate is None:
        return "FONTANEL_TLS_KEY is set without FONTANEL_TLS_CERTIFICATE." if key else ""
    if key is None:
        return "FONTANEL_TLS_CERTIFICATE is set without FONTANEL_TLS_KEY."
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(certificate, key)
    except OSError as error:
        reason = error.strerror or str(error)
        return f"The certificate {certificate} with the key {key} cannot be used: {reason}."
    return ""


class Certificate:
    """The files of a certificate; what renews it replaces them while the service runs."""

    def __init__(self, config: uvicorn.Config, certificate: Path, key: Path | None) -> None:
        self._config = config
        self._files = (certificate, key)
        self._changed = self._stamp()

    def renew(self) -> None:
        """Use the files for new connections, if they have changed and belong together."""
        stamp = self._stamp()
        if stamp == self._changed or self._config.ssl is None:
            return
        if problem := certificate_problem(*self._files):
            log.warning("the certificate was not renewed", problem=problem)
        else:
            self._config.ssl.load_cert_chain(*self._files)
            log.info("the certificate was renewed")
        self._changed = stamp

    def _stamp(self) -> tuple[float, ...]:
        """Return when the files were changed; 0 for one that is missing."""
        return tuple(
            file.stat().st_mtime if file is not None and file.exists() else 0.0
            for file in self._files
        )
