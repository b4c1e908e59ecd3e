"""A PostgreSQL cluster of the project's own in a folder of its own.

It listens on a socket of the file system only, in a folder that its owner alone may enter, and lets in only
the user who started Fenrik, by the kernel's word of who that is. No password is kept anywhere and no other
user of the machine gets in. The socket is always the same, so whoever lost the connection finds the cluster
again under the same address.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import pwd
import shutil
import signal
import subprocess
import time
from pathlib import Path
from urllib.parse import quote

from fenrik.processes import end_with_parent

USER = "fenrik_db"
PORT = 5432  # of the socket's name; nothing listens on the network
LONGEST_SOCKET = 100  # bytes of a socket's path: the kernel takes 107
READY_SECONDS = 60.0
STOP_SECONDS = 10.0


class Cluster:
    """Creates, starts and stops a cluster with Debian's binaries.

    PostgreSQL refuses to run as root; started by root, the cluster belongs to and runs as an unprivileged
    user that is made for it.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.binaries = _binaries()
        self.as_root = os.geteuid() == 0
        self.process: int | None = None
        if self.as_root:
            _ensure_user()
            folder.parent.mkdir(parents=True, exist_ok=True)
            if not self._reachable(folder.parent):
                # a checkout under /root: the database's user may not enter it
                self.folder = Path("/var/tmp") / f"fenrik-{_short(folder)}"
        self.socket_folder = self.folder
        if len(str(self.folder).encode()) > LONGEST_SOCKET - len(f"/.s.PGSQL.{PORT}"):
            self.socket_folder = Path("/tmp") / f"fenrik-{_short(folder)}"

    def address(self, name: str = "fenrik") -> str:
        """The address of a database of this cluster."""
        return (
            f"postgresql+psycopg://{USER}@/{name}?host={quote(str(self.socket_folder), safe='')}&port={PORT}"
        )

    def tool(self, name: str, *arguments: str) -> list[str]:
        """The command of a client program of PostgreSQL on this cluster, to be run by who started Fenrik."""
        return [
            str(self.binaries / name),
            "-h",
            str(self.socket_folder),
            "-p",
            str(PORT),
            "-U",
            USER,
            *arguments,
        ]

    # starting and stopping -------------------------------------------------------------------

    def prepare(self) -> None:
        """Creates the cluster when it is not there, says who may enter, and ends a server that was left
        behind."""
        if not (self.folder / "PG_VERSION").is_file():
            self._create()
        me = pwd.getpwuid(os.geteuid()).pw_name
        users = {me, USER} if self.as_root else {me}
        rules = {
            "pg_hba.conf": f"local all {USER} peer map=fenrik\n",
            "pg_ident.conf": "".join(f"fenrik {user} {USER}\n" for user in sorted(users)),
        }
        for name, text in rules.items():
            (self.folder / name).write_text(text)
        if self.socket_folder != self.folder:
            self.socket_folder.mkdir(exist_ok=True)
            self._own(self.socket_folder)
        self._end_left_behind()

    def serve(self) -> int:
        """Becomes the database's server; to be called in a process that was forked for it. Does not
        return."""
        self._become_server(os.getppid())
        return 1

    def start(self) -> None:
        """Starts the server as a child of this process and waits until it answers."""
        self.prepare()
        parent = os.getpid()
        self.process = os.fork()
        if self.process == 0:
            try:
                os.setsid()
                self._become_server(parent)
            finally:
                os._exit(1)
        until = time.monotonic() + READY_SECONDS
        while not self.answers():
            ended, _ = os.waitpid(self.process, os.WNOHANG)
            if ended or time.monotonic() > until:
                self.process = None if ended else self.process
                raise RuntimeError(f"PostgreSQL does not start: {self._last_words()}")
            time.sleep(0.05)

    def stop(self) -> None:
        """Stops the server; open connections are ended."""
        if self.process is None:
            return
        with contextlib.suppress(ProcessLookupError, ChildProcessError):
            os.kill(self.process, signal.SIGINT)
            until = time.monotonic() + STOP_SECONDS
            while os.waitpid(self.process, os.WNOHANG) == (0, 0):
                if time.monotonic() > until:
                    os.kill(self.process, signal.SIGKILL)
                time.sleep(0.02)
        self.process = None

    def answers(self) -> bool:
        """Whether a server answers on the cluster's socket."""
        return subprocess.run(self.tool("pg_isready", "-q"), check=False, cwd="/").returncode == 0

    def _become_server(self, parent: int) -> None:
        """Replaces this process by the server, which ends in order when its parent dies."""
        log = os.open(self.folder / "server.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        nothing = os.open(os.devnull, os.O_RDONLY)
        if self.as_root:
            owner = pwd.getpwnam(USER)
            os.fchown(log, owner.pw_uid, owner.pw_gid)
            os.setgroups([])
            os.setgid(owner.pw_gid)
            os.setuid(owner.pw_uid)
        os.dup2(nothing, 0)
        os.dup2(log, 1)
        os.dup2(log, 2)
        os.chdir("/")
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        end_with_parent(parent, signal.SIGINT)
        settings = {
            "listen_addresses": "",
            "port": str(PORT),
            "unix_socket_directories": str(self.socket_folder),
            "unix_socket_permissions": "0700",
            "log_min_messages": "warning",
        }
        options = [word for key, value in settings.items() for word in ("-c", f"{key}={value}")]
        program = str(self.binaries / "postgres")
        os.execv(program, [program, "-D", str(self.folder), *options])

    def _end_left_behind(self) -> None:
        """Ends a server that still runs on this folder, of a start that was killed."""
        file = self.folder / "postmaster.pid"
        try:
            process = int(file.read_text().splitlines()[0])
            if b"postgres" not in Path(f"/proc/{process}/cmdline").read_bytes():
                return
        except (OSError, ValueError, IndexError):
            return
        self._run(["pg_ctl", "stop", "-w", "-m", "fast", "-D", str(self.folder)], check=False)

    def _last_words(self) -> str:
        try:
            return (self.folder / "server.log").read_text(errors="replace")[-500:]
        except OSError:
            return "it left no log"

    # creating --------------------------------------------------------------------------------

    def _create(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        self._own(self.folder)
        self._run(
            ["initdb", "-D", str(self.folder), "-U", USER, "--auth=peer", "-E", "UTF8", "--locale=C.UTF-8"]
        )

    def _own(self, folder: Path) -> None:
        if self.as_root:
            owner = pwd.getpwnam(USER)
            os.chown(folder, owner.pw_uid, owner.pw_gid)
        folder.chmod(0o700)

    def _reachable(self, folder: Path) -> bool:
        test = ["runuser", "-u", USER, "--", "test", "-x", str(folder)]
        return subprocess.run(test, check=False, cwd="/").returncode == 0

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


def _short(folder: Path) -> str:
    return hashlib.sha256(str(folder).encode()).hexdigest()[:12]


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
