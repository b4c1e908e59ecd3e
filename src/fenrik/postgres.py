"""A PostgreSQL cluster of the project's own in a folder of its own, on loopback."""

from __future__ import annotations

import hashlib
import os
import pwd
import shutil
import socket
import subprocess
from pathlib import Path

USER = "fenrik_db"


class Cluster:
    """Creates, starts and stops a cluster with Debian's binaries.

    PostgreSQL refuses to run as root; started by root, the cluster belongs to and runs as an
    unprivileged user that is made for it.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.binaries = _binaries()
        self.as_root = os.geteuid() == 0
        if self.as_root:
            _ensure_user()
            folder.parent.mkdir(parents=True, exist_ok=True)
            if not self._reachable(folder.parent):
                # a checkout under /root: the database's user may not enter it
                name = hashlib.sha256(str(folder).encode()).hexdigest()[:12]
                self.folder = Path("/var/tmp") / f"fenrik-{name}"

    @property
    def port(self) -> int:
        """The port it listens on while it runs."""
        return int((self.folder / "postmaster.pid").read_text().splitlines()[3])

    def start(self) -> None:
        """Creates the cluster when it is not there and starts it when it does not run."""
        if not (self.folder / "PG_VERSION").is_file():
            self._create()
        if self._run(["pg_ctl", "status", "-D", str(self.folder)], check=False) == 0:
            return
        options = (
            f"-c listen_addresses=127.0.0.1 -c port={_free_port()} -c unix_socket_directories={self.folder}"
        )
        log = str(self.folder / "server.log")
        self._run(["pg_ctl", "start", "-w", "-D", str(self.folder), "-l", log, "-o", options])

    def _reachable(self, folder: Path) -> bool:
        test = ["runuser", "-u", USER, "--", "test", "-x", str(folder)]
        return subprocess.run(test, check=False, cwd="/").returncode == 0

    def stop(self) -> None:
        """Stops the cluster; open connections are ended."""
        self._run(["pg_ctl", "stop", "-w", "-m", "fast", "-D", str(self.folder)], check=False)

    def database(self, name: str) -> str:
        """The address of a database of this cluster, created when it is not there."""
        self._run(["createdb", "-h", "127.0.0.1", "-p", str(self.port), "-U", USER, name], check=False)
        return f"postgresql+psycopg://{USER}@127.0.0.1:{self.port}/{name}"

    def _create(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        if self.as_root:
            owner = pwd.getpwnam(USER)
            os.chown(self.folder, owner.pw_uid, owner.pw_gid)
        self.folder.chmod(0o700)
        self._run(
            [
                "initdb",
                "-D",
                str(self.folder),
                "-U",
                USER,
                "--auth=trust",
                "-E",
                "UTF8",
                "--no-sync",
                "--locale=C.UTF-8",
            ]
        )

    def _run(self, command: list[str], check: bool = True) -> int:
        full = [str(self.binaries / command[0]), *command[1:]]
        if self.as_root:
            full = ["runuser", "-u", USER, "--", *full]
        done = subprocess.run(
            full, capture_output=True, text=True, check=False, cwd="/", stdin=subprocess.DEVNULL
        )
        if check and done.returncode != 0:
            raise RuntimeError(f"{command[0]} failed: {done.stderr.strip() or done.stdout.strip()}")
        return done.returncode


def _binaries() -> Path:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: int(p.parts[4]))
    if found:
        return found[-1].parent
    other = shutil.which("initdb")
    if other is None:
        raise RuntimeError("PostgreSQL is not installed. Install Debian's package 'postgresql'.")
    return Path(other).parent


def _ensure_user() -> None:
    try:
        pwd.getpwnam(USER)
    except KeyError:
        subprocess.run(
            ["useradd", "--system", "--no-create-home", "--shell", "/usr/sbin/nologin", USER], check=True
        )


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
