"""Routes of files: models, documents and archives, in and out. What comes in lies on the disk, not in
memory."""

from __future__ import annotations

import json
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import PurePosixPath
from typing import IO, Annotated, BinaryIO, cast

from fastapi import APIRouter, File, Response, UploadFile
from fastapi.responses import StreamingResponse

from fenrik.app.jobs import Jobs, opened
from fenrik.core.errors import DocumentError, FenrikError, InputError
from fenrik.core.file_names import plain_file_name
from fenrik.core.job.document.bounds import MAX_JSON_CHARACTERS
from fenrik.core.job.document.reading import dump_job
from fenrik.core.job.programs.elsewhere import MAX_BYTES, program_text
from fenrik.core.job.workspace.files import files_of
from fenrik.core.model.reading import kind_of
from fenrik.web.deps import Number, Service, Who
from fenrik.web.jobs import JobAnswer

router = APIRouter(tags=["files"])

ARCHIVE = b"PK\x03\x04"
MAX_ARCHIVE = 400_000_000
MAX_MEMBERS = 200
CHUNK_BYTES = 256 * 1024
DOCUMENTS = (".yaml", ".yml", ".json")

Given = dict[str, BinaryIO]


@router.post("/jobs/import")
def import_job(
    jobs: Service, who: Who, files: Annotated[list[UploadFile], File(max_length=MAX_MEMBERS)]
) -> JobAnswer:
    """A job from its document with the models it names, or from the archive that export gives."""
    with ExitStack() as stack:
        given: Given = {}
        for upload in files:
            name, content = _file_name(upload), cast(BinaryIO, upload.file)
            if _head(content, 4) == ARCHIVE:
                given |= _unzipped(name, content, stack)
            else:
                given[name] = content
        document, wanted = _document_in(jobs, given)
        found = {name: _content_of(name, given) for name in wanted}
        missing = [name for name, content in found.items() if content is None]
        if missing:
            raise InputError(
                f"The document names {', '.join(missing)[:300]}, which was not given.",
                remedy="Choose the models together with it.",
            )
        answer = jobs.create(document, who)
        try:
            for name, model in found.items():
                assert model is not None
                model.seek(0)
                jobs.files.add(answer["id"], name, model)
        except FenrikError:
            jobs.remove(answer["id"])
            raise
    if answer["document"]["part"] is not None:
        jobs.runs.start(answer["id"], "part")
    return JobAnswer(**answer)


def _document_in(jobs: Jobs, given: Given) -> tuple[dict[str, object], list[str]]:
    """The one document among the files given, as plain data, and the files that it names."""
    documents = [n for n in given if n.lower().endswith(DOCUMENTS)]
    if len(documents) != 1:
        raise InputError(
            f"{len(documents)} job documents were given ({', '.join(given)[:300] or 'no file'}).",
            remedy="Choose one YAML or JSON document together with its models.",
        )
    content = given[documents[0]]
    content.seek(0)
    try:
        text = content.read(4 * MAX_JSON_CHARACTERS + 1).decode("utf-8")
    except UnicodeDecodeError as error:
        raise DocumentError(f"'{documents[0]}' is not UTF-8 text.", remedy="Save it as UTF-8.") from error
    answer = json.loads(jobs.answers.ask("document", text=text, name=documents[0]))
    return answer["document"], answer["files"]


def _file_name(upload: UploadFile) -> str:
    return plain_file_name(upload.filename or "")


def _head(content: BinaryIO, count: int) -> bytes:
    content.seek(0)
    head = content.read(count)
    content.seek(0)
    return head


def _unzipped(name: str, content: BinaryIO, stack: ExitStack) -> Given:
    """The files of an archive, unpacked to the disk and counted while they unpack, whatever the archive says
    of itself."""
    try:
        archive = stack.enter_context(zipfile.ZipFile(content))
        members = [m for m in archive.infolist() if not m.is_dir()]
        if len(members) > MAX_MEMBERS:
            raise InputError(
                f"The archive '{name}' holds {len(members)} files; at most {MAX_MEMBERS} are taken."
            )
        out: Given = {}
        left = MAX_ARCHIVE
        for member in members:
            if member.flag_bits & 1:
                raise InputError(
                    f"'{member.filename[:80]}' in the archive '{name}' is encrypted.",
                    remedy="Pack it without a password.",
                )
            target = stack.enter_context(tempfile.TemporaryFile())  # noqa: SIM115  the stack closes it
            with archive.open(member) as source:
                left -= _copied(source, target, left, name)
            out[member.filename] = cast(BinaryIO, target)
        return out
    except (
        zipfile.BadZipFile,
        NotImplementedError,
        RuntimeError,
        zlib.error,
        EOFError,
        ValueError,
        OSError,
    ) as error:
        raise InputError(
            f"The archive '{name}' is damaged or packed in an unknown way.", remedy="Pack it again."
        ) from error


def _copied(source: IO[bytes], target: IO[bytes], left: int, name: str) -> int:
    count = 0
    while piece := source.read(CHUNK_BYTES):
        count += len(piece)
        if count > left:
            raise InputError(
                f"The archive '{name}' unpacks to more than {MAX_ARCHIVE / 1e6:.0f} MB.",
                remedy="Give the files singly.",
            )
        target.write(piece)
    target.seek(0)
    return count


def _content_of(name: str, given: Given) -> BinaryIO | None:
    short = PurePosixPath(name).name
    return given.get(name) or next(
        (c for n, c in given.items() if PurePosixPath(n.replace("\\", "/")).name == short), None
    )


def _checked(upload: UploadFile) -> tuple[str, BinaryIO]:
    """Name and content of a model file that is one by its first bytes. Raises InputError."""
    name, content = _file_name(upload), cast(BinaryIO, upload.file)
    size = content.seek(0, 2)
    kind_of(_head(content, 2048), size, name)
    return name, content


@router.post("/jobs/{job_id}/part")
def upload_part(jobs: Service, job_id: Number, file: UploadFile, who: Who) -> JobAnswer:
    """Takes a model file as the job's part and starts reading it; what it is, its content tells."""
    stored = jobs.files.add(job_id, *_checked(file))
    answer = jobs.change_part(job_id, stored, who)
    jobs.runs.start(job_id, "part")
    return JobAnswer(**answer)


@router.post("/jobs/{job_id}/files")
def upload_file(jobs: Service, job_id: Number, file: UploadFile) -> str:
    """Keeps a further model file (a stock's solid) and returns its name."""
    return jobs.files.add(job_id, *_checked(file))


@router.post("/jobs/{job_id}/programs")
def upload_program(jobs: Service, job_id: Number, file: UploadFile) -> str:
    """Keeps the text of a program from elsewhere and returns its name."""
    name, content = _file_name(file), cast(BinaryIO, file.file)
    content.seek(0)
    program_text(content.read(MAX_BYTES + 1), name)
    content.seek(0)
    return jobs.files.add(job_id, name, content)


@router.get("/jobs/{job_id}/export.zip", response_class=Response)
def export_archive(jobs: Service, job_id: Number) -> Response:
    """The document and the models it names in one archive."""
    job = opened(jobs.stored(job_id))
    out = tempfile.TemporaryFile()  # noqa: SIM115  closed when it is sent
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("job.yaml", dump_job(job))
        for name in dict.fromkeys(name for name, _ in files_of(job)):
            with archive.open(name, "w") as target:
                for piece in jobs.files.content(job_id, name):
                    target.write(piece)
    out.seek(0)

    def pieces() -> Iterator[bytes]:
        with out:
            while piece := out.read(CHUNK_BYTES):
                yield piece

    headers = {"Content-Disposition": f'attachment; filename="job_{job_id}.zip"'}
    return StreamingResponse(pieces(), media_type="application/zip", headers=headers)
