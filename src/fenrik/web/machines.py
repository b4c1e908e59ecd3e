"""Routes of a job's own machines: from a description in URDF and as one."""

from __future__ import annotations

import base64
import json
from pathlib import PurePosixPath
from typing import Annotated, BinaryIO, cast

from fastapi import APIRouter, File, Response, UploadFile
from pydantic import Field

from fenrik.core.errors import DocumentError, InputError
from fenrik.core.file_names import plain_file_name
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.urdf.reading import LARGEST
from fenrik.web.deps import Number, Service, Text

router = APIRouter(tags=["machines"])
MOST_FILES = 100
DESCRIPTIONS = (".urdf", ".xml")
Id = Annotated[Text, Field(min_length=1, max_length=100)]


@router.post("/jobs/{job_id}/machines/urdf")
def take_description(
    jobs: Service, job_id: Number, files: Annotated[list[UploadFile], File(max_length=MOST_FILES)]
) -> Machine:
    """A machine from a description in URDF and its meshes, which the job gets as files; to be put into the
    document by who asked."""
    names = [plain_file_name(f.filename or "") for f in files]
    described = [i for i, name in enumerate(names) if name.lower().endswith(DESCRIPTIONS)]
    if len(described) != 1:
        raise InputError(
            f"{len(described)} descriptions were given ({', '.join(names)[:300]}).",
            remedy="Choose one URDF file together with the meshes that it names.",
        )
    at = described[0]
    meshes = {
        name: jobs.files.add(job_id, name, cast(BinaryIO, file.file))
        for i, (name, file) in enumerate(zip(names, files, strict=True))
        if i != at
    }
    content = files[at].file.read(4 * LARGEST + 1)
    try:
        text = content.decode("utf-8")
    except UnicodeDecodeError as error:
        raise DocumentError(f"'{names[at]}' is not UTF-8 text.", remedy="Save it as UTF-8.") from error
    asked = jobs.asked(job_id)
    name = PurePosixPath(names[at]).stem[:60]
    found = json.loads(jobs.answers.ask("urdf_in", asked, text=text, name=name, meshes=meshes))
    kept = {
        file: jobs.add_file(job_id, file, base64.b64decode(encoded))
        for file, encoded in found["files"].items()
    }
    for body in found["machine"]["bodies"]:
        if body["kind"] == "file":
            body["file"] = kept[body["file"]]
    return Machine.model_validate(found["machine"])


@router.get("/jobs/{job_id}/machines/{machine}/urdf.zip", response_class=Response)
def describe(jobs: Service, job_id: Number, machine: Id) -> Response:
    """A machine of the job or of the library as an archive with its description in URDF and its meshes."""
    content = jobs.answers.ask("urdf_out", jobs.asked(job_id), machine=machine)
    headers = {"Content-Disposition": 'attachment; filename="machine_urdf.zip"'}
    return Response(content, media_type="application/zip", headers=headers)
