"""Workers on other machines: the database answers them too, over TLS; what they need lies in Vesk's shared folder."""

from __future__ import annotations

import ipaddress
import json
import os
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

from vesk.core.errors import RefusedError, VeskError
from vesk.services.keeping import Cluster, secret_of
from vesk.settings import Settings

NOTE, CERTIFICATE = "workers.json", "workers.pem"  # in Vesk's folder
_HBA = """# By Vesk: this machine, and, over TLS, those of its own networks.
host all all 127.0.0.1/32 scram-sha-256
host all all ::1/128 scram-sha-256
hostssl all vesk samenet scram-sha-256
"""
_YEARS = 10
# A cable that is pulled is noticed within a quarter of a minute: by the worker, and by the server too, where what that
# worker had locked would else stay so until the system's own two hours are over, and nobody could take its work up.
_SOON = "connect_timeout=5&keepalives_idle=5&keepalives_interval=2&keepalives_count=4&tcp_user_timeout=12000"
_SOON_THERE = (
    " -c tcp_keepalives_idle=5 -c tcp_keepalives_interval=2 -c tcp_keepalives_count=4 -c tcp_user_timeout=12000"
)


def prepare(own: Cluster, address: str) -> str:
    """Make what the server needs to answer other machines at `address` too; returns its options.

    Raises
    ------
    RefusedError
        If it is no address.
    """
    try:
        ipaddress.ip_address(address)
    except ValueError:
        raise RefusedError(f"{address!r} is no address of this machine.") from None
    certificate, key, hba = own.data / "vesk.crt", own.data / "vesk.key", own.data / "vesk_hba.conf"
    if not certificate.exists() or not key.exists():
        done = subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days",
             str(365 * _YEARS), "-subj", "/CN=vesk", "-keyout", str(key), "-out", str(certificate)],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        if done.returncode:
            raise VeskError(f"No certificate could be made for the database: {done.stderr.strip()[-200:]}")
    hba.write_text(_HBA, encoding="utf-8")
    owner = own.data.stat()
    for file in (certificate, key, hba):
        file.chmod(0o600)
        if os.geteuid() == 0:
            os.chown(file, owner.st_uid, owner.st_gid)
    return (
        f" -c listen_addresses=127.0.0.1,{address} -c ssl=on -c ssl_cert_file={certificate} -c ssl_key_file={key}"
        f" -c hba_file={hba}{_SOON_THERE}"
    )


def note(own: Cluster, settings: Settings) -> None:
    """Write for workers elsewhere how the database is reached and what the folders are called here."""
    shutil.copyfile(own.data / "vesk.crt", settings.var / CERTIFICATE)
    values = {
        "port": own.port(), "secret": secret_of(own.data), "var": str(settings.var),
        "media": [str(root) for root in settings.media_roots], "output": [str(root) for root in settings.outputs],
    }  # fmt: skip
    part = settings.var / f"{NOTE}.part"
    with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="utf-8") as file:
        json.dump(values, file)
    part.replace(settings.var / NOTE)


def joined(settings: Settings, address: str) -> Settings:
    """Return the settings of a worker of the Vesk at `address`, whose folder is this one's, perhaps under another path.

    Raises
    ------
    RefusedError
        If no Vesk shares that folder, or a folder of its media is not here.
    """
    try:
        values = json.loads((settings.var / NOTE).read_text(encoding="utf-8"))
        port, secret, var = int(values["port"]), str(values["secret"]), str(values["var"])
    except (OSError, ValueError, KeyError, TypeError):
        raise RefusedError(
            f"{settings.var} is the folder of no Vesk that shares its work. Name its folder as it is mounted here in "
            "VESK_VAR, and start it with ./vesk serve --share ADDRESS. Nothing was started."
        ) from None
    mapped = dict(settings.mapped)
    for there in (*values.get("media", []), *values.get("output", [])):
        here = mapped.setdefault(there, Path(there))
        if not here.is_dir():
            raise RefusedError(
                f"{there} of that Vesk is not here{'' if str(here) == there else f', at {here}'}. Mount it, and name "
                f'both in VESK_MAPPED: {{"{there}": "/where/it/is/here"}}. Nothing was started.'
            )
    roots = tuple(mapped[there] for there in values.get("media", []))
    mapped[var] = settings.var
    tls = f"sslmode=verify-ca&sslrootcert={settings.var / CERTIFICATE}&{_SOON}"
    host = f"[{address}]" if ":" in address else address
    return replace(
        settings, database_url=f"postgresql://vesk:{secret}@{host}:{port}/vesk?{tls}", media_roots=roots,
        outputs=tuple(mapped[there] for there in values.get("output", [])), mapped=tuple(mapped.items()),
    )  # fmt: skip
