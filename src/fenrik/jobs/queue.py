"""The queue: Procrastinate on the application's PostgreSQL."""

from __future__ import annotations

from procrastinate import App, PsycopgConnector, SyncPsycopgConnector

TASK = "compute"


def libpq(url: str) -> str:
    """The address in the form that psycopg itself takes."""
    return url.replace("postgresql+psycopg://", "postgresql://")


class ProcrastinateQueue:
    """Hands runs to the workers."""

    def __init__(self, url: str) -> None:
        self._app = App(connector=SyncPsycopgConnector(conninfo=libpq(url)))
        self._app.open()

    def submit(self, run_id: int) -> None:
        """Defers the computation of a run."""
        self._app.configure_task(TASK).defer(run_id=run_id)

    def close(self) -> None:
        """Closes the connections."""
        self._app.close()


def worker_app(url: str) -> App:
    """The application as a worker opens it."""
    return App(connector=PsycopgConnector(conninfo=libpq(url)))
