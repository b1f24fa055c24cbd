"""A small authority of one's own, and the certificate it signs for the machines of a cluster (X.509, RFC 5280).

authority.pem       what each machine trusts            authority-key.pem   stays where it was made
kovel.pem           what a machine shows of itself      kovel-key.pem       for the machines, and for nobody else
"""

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from kovel.core.errors import Invalid

YEARS = 5


def make_certificates(folder: Path) -> list[Path]:
    """Writes the four files, keys readable by this user alone; raises `Invalid` where there are some already."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / name for name in ("authority.pem", "authority-key.pem", "kovel.pem", "kovel-key.pem")]
    if there := [path.name for path in paths if path.exists()]:
        raise Invalid(f"{folder} holds {', '.join(there)} already. Choose another folder, or move them away first.")
    authority_key, key = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    authority = _certificate("Kovel authority", authority_key, "Kovel authority", authority_key, is_authority=True)
    own = _certificate("Kovel", key, "Kovel authority", authority_key, is_authority=False)
    pem = serialization.Encoding.PEM
    for path, body in zip(
        paths,
        (
            authority.public_bytes(pem),
            _written(authority_key),
            own.public_bytes(pem),
            _written(key),
        ),
        strict=True,
    ):
        with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(body)
    return paths


def _written(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def _certificate(
    name: str, key: ec.EllipticCurvePrivateKey, by: str, by_key: ec.EllipticCurvePrivateKey, *, is_authority: bool
) -> x509.Certificate:
    named, signer = (x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)]) for text in (name, by))
    now = datetime.now(UTC)
    builder = (
        x509.CertificateBuilder()
        .subject_name(named)
        .issuer_name(signer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))  # clocks of machines differ
        .not_valid_after(now + timedelta(days=365 * YEARS))
        .add_extension(x509.BasicConstraints(ca=is_authority, path_length=0 if is_authority else None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(by_key.public_key()), critical=False)
    )
    if not is_authority:
        uses = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH])
        builder = builder.add_extension(uses, critical=False)
    return builder.sign(by_key, hashes.SHA256())
