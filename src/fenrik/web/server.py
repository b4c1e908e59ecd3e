"""The web application: routes of the API and the built front end."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse, Response
from fastapi.staticfiles import StaticFiles

from fenrik import __version__
from fenrik.app.jobs import Jobs
from fenrik.web import errors, events, files, jobs, library, machines, releases, shop, views
from fenrik.web.described import described
from fenrik.web.guard import Guard


def make_app(service: Jobs | None, front_end: Path | None = None, hosts: Iterable[str] = ()) -> FastAPI:
    """The application on a service (none: for its OpenAPI document only); `front_end` is the folder of the
    built pages, `hosts` are names under which it is reached besides the loopback's."""
    app = FastAPI(title="Fenrik", version=__version__, docs_url=None, redoc_url=None)
    if service is not None:
        app.state.jobs = service
        app.state.watch = events.RunWatch(service)
    errors.install(app)
    app.add_middleware(Guard, hosts=tuple(hosts))
    for module in (files, jobs, library, machines, views, releases, shop, events):
        app.include_router(module.router, prefix="/api")
    if front_end is not None and (front_end / "index.html").is_file():
        _serve(app, front_end)
    app.openapi = lambda: described(app)  # type: ignore[method-assign]
    return app


def _serve(app: FastAPI, folder: Path) -> None:
    root = folder.resolve()
    app.mount("/assets", StaticFiles(directory=folder / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        if path.startswith("api/"):
            return errors.answer_of(404, "not_found", "There is nothing under this address.")
        try:
            wanted = (root / path).resolve()
            known = path and wanted.is_file() and wanted.is_relative_to(root)
        except (OSError, ValueError):  # a name that no file can have
            known = False
        return FileResponse(wanted if known else root / "index.html", headers={"Cache-Control": "no-cache"})
