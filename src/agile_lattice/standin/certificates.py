"""What the RESTCONF servers of stand-ins are known by: certificates of their own, and passwords in files."""

from __future__ import annotations

import ipaddress
import secrets
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

DAYS = 3650


def certified(certificate: Path, host: str) -> Path:
    """Make the certificate of a host that signs for itself, unless it is there; return the file of its key."""
    key_file = certificate.with_name(f"{certificate.name}.key")
    if certificate.exists() and key_file.exists():
        return key_file
    certificate.parent.mkdir(parents=True, exist_ok=True)
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "a stand-in to practise on")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=DAYS))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(host))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    key_file.touch(0o600)
    key_file.write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    )  # fmt: skip
    certificate.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return key_file


def password_in(file: Path) -> str:
    """Return the password in a file, which is made unless it is there."""
    if not file.exists():
        file.parent.mkdir(parents=True, exist_ok=True)
        file.touch(0o600)
        file.write_text(f"{secrets.token_urlsafe(16)}\n", encoding="utf-8")
    return file.read_text(encoding="utf-8").strip()
