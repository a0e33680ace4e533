"""A certificate of the tests' own, and nginx with the examples that ship."""

from __future__ import annotations

import datetime
import ssl
from dataclasses import dataclass
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


@dataclass(frozen=True)
class Certificate:
    certificate: Path
    key: Path

    @property
    def trusting(self) -> ssl.SSLContext:
        """A context that trusts this certificate alone."""
        return ssl.create_default_context(cafile=self.certificate)


def make_certificate(folder: Path, name: str) -> Certificate:
    """Write a self-signed certificate for localhost, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.datetime.now(datetime.UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=30))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .sign(key, hashes.SHA256())
    )
    result = Certificate(folder / f"{name}.pem", folder / f"{name}.key")
    result.certificate.write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    result.key.write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
    )
    return result


@pytest.fixture(scope="module")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> Certificate:
    return make_certificate(tmp_path_factory.mktemp("certificate"), "first")
