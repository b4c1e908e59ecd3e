"""Job documents in and out: YAML or JSON, errors with the path, the value and the remedy, the schema."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import yaml
from pydantic import ValidationError

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.bounds import MAX_JSON_CHARACTERS, bounded_data, check_bounds
from fenrik.core.job.document.job import VERSION, Job
from fenrik.core.strategies.registry import strategies


def load_job(path: Path) -> Job:
    """The job in a YAML or JSON file. Raises DocumentError."""
    if not path.is_file():
        raise DocumentError(f"The job document '{path}' does not exist.", remedy="Check the path.")
    try:
        with path.open(encoding="utf-8") as file:
            text = file.read(MAX_JSON_CHARACTERS + 1)
    except UnicodeDecodeError as error:
        raise DocumentError(
            f"The job document '{path.name}' is not UTF-8 text.", remedy="Save it as UTF-8."
        ) from error
    return parse_job(text, path.name)


def parse_job(text: str, name: str = "document") -> Job:
    """The job in YAML or JSON text (JSON is YAML). Raises DocumentError."""
    data = bounded_data(text, name)
    return job_from_data(data, name)


def job_from_data(data: Any, name: str = "document") -> Job:
    """The job from plain data. Raises DocumentError with path, value and remedy of the first fault."""
    if not isinstance(data, dict):
        raise DocumentError(
            f"'{name}' holds no job: a mapping is needed.", remedy=f"Start it with 'fenrik: {VERSION}'."
        )
    check_bounds(data, name)
    version = data.get("fenrik")
    if isinstance(version, int) and not isinstance(version, bool) and version in UPGRADES:
        data = UPGRADES[version](data)
    elif version != VERSION:
        raise DocumentError(
            f"The version is {repr(version)[:40]}; this Fenrik reads {VERSION} and all before it.",
            remedy=f"Write 'fenrik: {VERSION}', or use the Fenrik that wrote the document.",
            where="fenrik",
        )
    try:
        return Job.model_validate(data)
    except RecursionError as error:
        raise DocumentError(f"'{name}' is nested too deeply.", remedy="It is no job document.") from error
    except ValidationError as error:
        raise document_error(error) from error


def _from_first(data: dict[str, Any]) -> dict[str, Any]:
    """Version 2 has sides and machines with joints; what version 1 could say it says alike."""
    return {**data, "fenrik": 2}


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _from_first}
"""How documents of earlier versions become documents of the present one."""


BOUNDS = (("gt", "above"), ("ge", "at least"), ("lt", "below"), ("le", "at most"))
MOST_FAULTS = 6
"""So many are told in words; the others are counted."""


def document_error(error: ValidationError) -> DocumentError:
    """The faults of a validation as one DocumentError: place, value and remedy of the first one, then the
    others."""
    faults = sorted(error.errors(include_url=False), key=lambda f: len(f["loc"]) == 0)
    first, others = faults[0], faults[1:]
    what, remedy, rule = _told(first)
    if others:
        told = "; ".join(f"{_path(f['loc'])}: {_told(f)[0].rstrip('.')}" for f in others[: MOST_FAULTS - 1])
        more = len(others) - (MOST_FAULTS - 1)
        remedy = f"{remedy} Also {told}{f'; and {more} more' if more > 0 else ''}.".strip()
    together = (first.get("ctx") or {}).get("set")
    offer = {"set": together} if together else None
    return DocumentError(what, remedy=remedy, where=_path(first["loc"]), offer=offer, rule=rule)


def _told(fault: Any) -> tuple[str, str, str]:
    """What is wrong and its remedy; and of a value beyond its bounds the rule alone, "must be above 0"."""
    kind, value, location = fault["type"], fault.get("input"), fault["loc"]
    name = next((step for step in reversed(location) if isinstance(step, str)), "")
    if kind == "missing":
        return f"'{name}' is missing.", "Add it.", ""
    if kind == "extra_forbidden":
        return f"'{name}' is not known here.", "Remove it or correct its name.", ""
    text = repr(value)
    text = text if len(text) <= 80 else f"{text[:77]}..."
    context = fault.get("ctx") or {}
    bound = next((f"{words} {context[key]:g}" for key, words in BOUNDS if _number(context.get(key))), "")
    if bound and _number(value):
        rule = f"must be {bound}"
        return f"{name} {rule}, not {text}.", "", rule
    message = fault["msg"].removeprefix("Value error, ")
    shown = "" if isinstance(value, (dict, list)) else f" The value is {text}."
    head = message.split(" ")[0]
    begun = message if "_" in head else f"{message[0].upper()}{message[1:]}"  # a field's name stays as it is
    if kind in ("value_error", "together"):
        return f"{begun}.{shown}", "", ""
    return f"{begun}.{shown}", f"Use {context['expected']}." if "expected" in context else "Correct it.", ""


def _number(value: object) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _path(location: tuple[int | str, ...]) -> str:
    text = ""
    for item in location:
        if isinstance(item, int):
            text += f"[{item}]"
        elif item in ("box", "solid") and text.endswith("stock"):
            continue  # the discriminator is no key of the document
        else:
            text += f".{item}" if text else item
    return text


def job_data(job: Job) -> dict[str, Any]:
    """The job as plain data that holds only what was set."""
    data = job.model_dump(mode="json", exclude_defaults=True)
    return {
        "fenrik": VERSION,
        "name": job.name,
        **{k: v for k, v in data.items() if k not in ("fenrik", "name")},
    }


def dump_job(job: Job) -> str:
    """The job as YAML text that `parse_job` reads back to the same job."""
    return yaml.dump(job_data(job), Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=100)


class _Dumper(yaml.SafeDumper):
    """Writes equal values out wherever they stand."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


def schema() -> dict[str, Any]:
    """The JSON Schema of the document, each strategy's parameters included."""
    result = Job.model_json_schema(by_alias=True)
    operation = result["$defs"]["OperationDoc"]
    operation["properties"]["strategy"] = {"enum": list(strategies()), "title": "Strategy"}
    cases = []
    for key, strategy in strategies().items():
        own = strategy.parameters.model_json_schema()
        result["$defs"] |= own.pop("$defs", {})
        result["$defs"][strategy.parameters.__name__] = own
        cases.append(
            {
                "if": {"properties": {"strategy": {"const": key}}},
                "then": {"properties": {"parameters": {"$ref": f"#/$defs/{strategy.parameters.__name__}"}}},
            }
        )
    operation["allOf"] = cases
    result["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    result["title"] = "Fenrik job document"
    return result


def schema_text() -> str:
    """The schema as JSON text."""
    return json.dumps(schema(), indent=2, ensure_ascii=False) + "\n"
