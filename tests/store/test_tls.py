"""A database that is reached over a network: only one whose certificate our authority signed for its host is talked to."""

import datetime
import ipaddress
from collections.abc import Iterator
from pathlib import Path

import pymysql
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from fairsquare.service.keeping import back_up
from fairsquare.service.mariadb import PrivateMariaDB
from fairsquare.store.database import Database, DatabaseAway, select_one
from fairsquare.store.migrate import migrate


class Authority:
    """Who signs certificates."""

    def __init__(self, file: Path) -> None:
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, file.stem)])
        signed = self._made(self._name, self._key).add_extension(
            x509.BasicConstraints(ca=True, path_length=None), critical=True
        )
        file.write_bytes(signed.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
        self.file = file

    def _made(self, name: x509.Name, key: ec.EllipticCurvePrivateKey) -> x509.CertificateBuilder:
        now = datetime.datetime.now(datetime.UTC)
        return (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(self._name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - datetime.timedelta(hours=1))
            .not_valid_after(now + datetime.timedelta(days=1))
        )

    def sign(self, folder: Path, address: str) -> None:
        """Write a key and a certificate for an address."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, address)])
        names = x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))])
        own = self._made(name, key).add_extension(names, critical=False).sign(self._key, hashes.SHA256())
        (folder / "node.pem").write_bytes(own.public_bytes(serialization.Encoding.PEM))
        (folder / "node.key").write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        for file in folder.iterdir():
            file.chmod(0o644)


class OverTLS(PrivateMariaDB):
    """A server that lets nobody in without TLS but over its socket."""

    def _options(self, data: Path) -> list[str]:
        own = self.folder.parent / "tls"
        return [
            *super()._options(data),
            f"--ssl-cert={own / 'node.pem'}",
            f"--ssl-key={own / 'node.key'}",
            "--require-secure-transport=ON",
        ]


@pytest.fixture(scope="module")
def authorities(tmp_path_factory) -> tuple[Authority, Authority]:
    folder = tmp_path_factory.mktemp("authorities")
    return Authority(folder / "ours.pem"), Authority(folder / "another.pem")


@pytest.fixture(scope="module")
def over_tls(authorities, tmp_path_factory) -> Iterator[str]:
    folder = tmp_path_factory.mktemp("over-tls")
    for above in (folder, *folder.parents):
        if above.stat().st_mode & 0o700 and not above.stat().st_mode & 0o001:
            above.chmod(above.stat().st_mode | 0o011)
    (folder / "tls").mkdir(mode=0o755)
    authorities[0].sign(folder / "tls", "127.0.0.1")
    mariadb = OverTLS(folder / "db", quick=True)
    yield mariadb.start()
    mariadb.stop()
    mariadb.remove()


def cipher(url: str) -> str:
    database = Database(url, 1)
    try:
        row = database.run(lambda c: select_one(c, "SHOW SESSION STATUS LIKE 'Ssl_cipher'"))
        assert row is not None
        return str(row["Value"])
    finally:
        database.close()


def test_with_our_authority_it_is_talked_to_encrypted(over_tls, authorities) -> None:
    assert cipher(f"{over_tls}?ssl_ca={authorities[0].file}").startswith(("TLS", "ECDHE"))


def test_one_that_another_authority_signed_for_is_not_talked_to(over_tls, authorities) -> None:
    with pytest.raises((DatabaseAway, pymysql.MySQLError)):
        cipher(f"{over_tls}?ssl_ca={authorities[1].file}")


def test_one_that_stands_for_another_host_is_not_talked_to(over_tls, authorities) -> None:
    with pytest.raises((DatabaseAway, pymysql.MySQLError)):
        cipher(f"{over_tls.replace('127.0.0.1', 'localhost')}?ssl_ca={authorities[0].file}")


def test_migrations_and_backups_go_over_it_too(over_tls, authorities, tmp_path) -> None:
    url = f"{over_tls}?ssl_ca={authorities[0].file}"
    assert migrate(url)
    assert "0 jobs" in back_up(url, tmp_path / "a.backup")
    with pytest.raises(pymysql.MySQLError):
        migrate(f"{over_tls}?ssl_ca={authorities[1].file}")
