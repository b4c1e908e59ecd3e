"""A process that forks others: loaded once with all that computing needs, so that a new child is there in
milliseconds.

    owner (server or worker) ── nursery ── child, child, ...

The nursery is forked before its owner opens a connection or starts a thread, and does neither itself, which
is what makes forking it safe. Every child is the head of a process group and has a connection to the owner.
When the owner dies the kernel ends the nursery, and when that dies the children: nothing outlives who asked
for it.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import select
import signal
import socket
import sys
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from typing import Any

from fenrik.processes import end_with_parent, kill_group

END_SECONDS = 5.0

Work = Callable[[Connection], None]


class NurseryGone(Exception):
    """The nursery was killed; its owner cannot go on without it and has to be started again."""


@dataclass
class Child:
    """A child as its owner sees it: its process, which leads a group of that number, and the connection to
    it."""

    process: int
    connection: Connection
    since: float = field(default_factory=time.monotonic)

    def kill(self) -> None:
        """Ends the child and all that it has started, at once."""
        kill_group(self.process)

    def send(self, order: object) -> None:
        """Sends plain data. Raises OSError when the child is gone."""
        self.connection.send_bytes(json.dumps(order).encode())

    def waits(self) -> bool:
        """Whether an idle child is still there: one that ended has closed its connection."""
        return not self.connection.closed and not self.connection.poll(0)

    def memory(self) -> int:
        """Bytes of memory that the child holds alone, 0 when it is gone."""
        try:
            with open(f"/proc/{self.process}/statm") as file:
                _, resident, shared, *_ = file.read().split()
        except (OSError, ValueError):
            return 0
        return (int(resident) - int(shared)) * os.sysconf("SC_PAGE_SIZE")


class Nursery:
    """The owner's end. Not safe for threads: who has several takes a lock."""

    def __init__(self, work: Work) -> None:
        here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._ends: dict[int, int] = {}
        owner = os.getpid()
        sys.stdout.flush()
        sys.stderr.flush()
        self.process = os.fork()
        if self.process == 0:
            here.close()
            os._exit(_serve(there, work, owner))
        there.close()
        here.settimeout(END_SECONDS)
        self._socket = here

    def child(self) -> Child:
        """A new child. Raises NurseryGone."""
        mine, its = socket.socketpair()
        try:
            socket.send_fds(self._socket, [b"child"], [its.fileno()])
            while True:
                kind, process, status = self._message()
                if kind == "made":
                    return Child(process, Connection(mine.detach()))
                self._ends[process] = status
        except OSError as error:
            mine.close()
            raise NurseryGone(str(error)) from error
        finally:
            its.close()

    def ended(self, child: Child) -> int:
        """How a child that has closed its connection ended: its exit code, or the negative number of a
        signal. It is ended by force when it does not end by itself."""
        child.connection.close()
        until = time.monotonic() + END_SECONDS
        try:
            while child.process not in self._ends:
                if time.monotonic() > until - 0.8 * END_SECONDS:
                    child.kill()
                kind, process, status = self._message()
                if kind == "ended":
                    self._ends[process] = status
        except TimeoutError:
            return -int(signal.SIGKILL)
        except OSError as error:
            raise NurseryGone(str(error)) from error
        return self._ends.pop(child.process)

    def _message(self) -> tuple[str, int, int]:
        text = self._socket.recv(100)
        if not text:
            raise NurseryGone("the nursery closed its connection")
        kind, process, status = text.decode().split()
        return kind, int(process), int(status)

    def close(self) -> None:
        """Ends the nursery and with it all children."""
        self._socket.close()
        with contextlib.suppress(ProcessLookupError, ChildProcessError):
            os.kill(self.process, signal.SIGKILL)
            os.waitpid(self.process, 0)


def _serve(owner: socket.socket, work: Work, parent: int) -> int:
    """The nursery itself: forks when it is asked to, and tells when a child has ended."""
    end_with_parent(parent)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    gc.freeze()  # what is loaded stays shared with the children
    handles: dict[int, int] = {}  # pidfd: process
    while True:
        waiting: list[Any] = [owner, *handles]
        readable, _, _ = select.select(waiting, [], [])
        for handle in readable:
            if handle is owner:
                text, descriptors, _, _ = socket.recv_fds(owner, 16, 1)
                if not text:
                    return 0
                me = os.getpid()
                process = os.fork()
                if process == 0:
                    os._exit(_child(descriptors[0], owner, list(handles), work, me))
                os.close(descriptors[0])
                handles[os.pidfd_open(process)] = process
                owner.send(f"made {process} 0".encode())
            else:
                process = handles.pop(handle)
                os.close(handle)
                _, status = os.waitpid(process, 0)
                kill_group(process)  # what the child has started and left behind
                owner.send(f"ended {process} {os.waitstatus_to_exitcode(status)}".encode())


def _child(descriptor: int, owner: socket.socket, handles: list[int], work: Work, parent: int) -> int:
    os.setpgid(0, 0)
    end_with_parent(parent)
    owner.close()
    for handle in handles:
        os.close(handle)
    try:
        work(Connection(descriptor))
        return 0
    except (EOFError, BrokenPipeError):
        return 0
    except BaseException:
        traceback.print_exc()
        return 1
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
