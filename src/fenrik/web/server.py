"""The web application: routes of the API and the built front end."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse, Response
from fastapi.staticfiles import StaticFiles

from fenrik import __version__
from fenrik.app.jobs import Jobs
from fenrik.web import errors, events, jobs, library, releases, views


def make_app(service: Jobs, front_end: Path | None = None) -> FastAPI:
    """The application on a service; `front_end` is the folder of the built pages."""
    app = FastAPI(title="Fenrik", version=__version__, docs_url=None, redoc_url=None)
    app.state.jobs = service
    errors.install(app)
    app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=1)
    for module in (jobs, library, views, releases, events):
        app.include_router(module.router, prefix="/api")
    if front_end is not None and (front_end / "index.html").is_file():
        _serve(app, front_end)
    return app


def _serve(app: FastAPI, folder: Path) -> None:
    app.mount("/assets", StaticFiles(directory=folder / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        wanted = (folder / path).resolve()
        if path and wanted.is_file() and wanted.is_relative_to(folder.resolve()):
            return FileResponse(wanted)
        if path.startswith("api/"):
            return Response(status_code=404)
        return FileResponse(folder / "index.html", headers={"Cache-Control": "no-cache"})
