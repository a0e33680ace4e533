"""HTTPS with a certificate of the operator's, without a proxy."""

from __future__ import annotations

import signal
import ssl
import subprocess
import sys
from pathlib import Path

import uvicorn

from fontanel.service.certificate import Certificate
from tests import patient
from tests.conftest import Service, free_port
from tests.deploy.conftest import Certificate as Made
from tests.deploy.conftest import make_certificate


def test_the_service_speaks_https_with_its_own_certificate(
    tmp_path: Path, certificate: Made
) -> None:
    service = Service(tmp_path / "data")
    port = free_port()
    command = [sys.executable, "-m", "fontanel.cli", "serve", "--port", str(port)]
    environment = {
        "PATH": "/usr/bin",
        "FONTANEL_DATA": str(service.data),
        "FONTANEL_EMBEDDER": str(tmp_path / "none"),
        "FONTANEL_EVIDENCE": str(tmp_path / "none"),
        "FONTANEL_TLS_CERTIFICATE": str(certificate.certificate),
        "FONTANEL_TLS_KEY": str(certificate.key),
    }
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        lines = iter(process.stdout.readline, "")
        password = next(line for line in lines if "with the password" in line).split()[-1]
        assert f"https://127.0.0.1:{port}" in next(line for line in lines if "listens on" in line)
        url = f"https://localhost:{port}"
        signed_in = patient.post(
            f"{url}/api/v1/session",
            json={"email": "operator@localhost", "password": password},
            headers={"X-Fontanel-Console": "1"},
            verify=certificate.trusting,
        )
        assert signed_in.status_code == 200
        assert "Secure" in signed_in.headers["set-cookie"]
        assert "max-age" in signed_in.headers["strict-transport-security"]
    finally:
        process.terminate()
        assert process.wait(timeout=60) in (0, -signal.SIGTERM)


def test_a_renewed_certificate_is_used_and_a_broken_one_is_not(
    tmp_path: Path, certificate: Made
) -> None:
    second = make_certificate(tmp_path, "second")
    files = Made(tmp_path / "chain.pem", tmp_path / "key.pem")
    files.certificate.write_bytes(certificate.certificate.read_bytes())
    files.key.write_bytes(certificate.key.read_bytes())
    config = uvicorn.Config(
        "none", ssl_certfile=str(files.certificate), ssl_keyfile=str(files.key), lifespan="off"
    )
    config.ssl = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    config.ssl.load_cert_chain(files.certificate, files.key)
    current = Certificate(config, files.certificate, files.key)
    loaded: list[Path] = []
    config.ssl.load_cert_chain = lambda one, *_: loaded.append(Path(one))  # type: ignore[method-assign]
    current.renew()
    assert loaded == []
    files.certificate.write_bytes(second.certificate.read_bytes())
    current.renew()  # the key does not belong to it yet
    assert loaded == []
    files.key.write_bytes(second.key.read_bytes())
    current.renew()
    assert loaded == [files.certificate]
