"""The lineage of a run as OpenLineage has it (openlineage.io, specification 2-0-2): which tables were read,
which were written, and from which fields each field that was written is read.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import uuid
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from keen_trellis import __version__
from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import file_of, parse
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.origins import Origins, origins_of
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.whole_file import whole_file

_SPEC = "https://openlineage.io/spec"
_EVENT = f"{_SPEC}/2-0-2/OpenLineage.json#/$defs/RunEvent"
_NAMESPACE = "keen-trellis"
PRODUCER = f"urn:keen-trellis:{__version__}"


def events(
    name: str,
    flow: Flow,
    kinds: Kinds,
    runner: Runner,
    written: Mapping[str, OutputSettings],
    started: dt.datetime,
    ended: dt.datetime,
) -> list[dict[str, Any]]:
    """The events of a run: that it began, and what it came to. written: the outputs, by step."""
    inputs = {
        step: _dataset(settings.path, settings.table) for step, settings in sources_of(flow, kinds).items()
    }
    read: dict[str, dict[str, None]] = {}
    outputs = []
    for step, settings in written.items():
        table = runner.result(flow, step, Task()).rows
        origins = {field.name: origins_of(table, field.name) for field in table.fields}
        for found in origins.values():
            for source, field in found:
                read.setdefault(source, {})[field] = None
        outputs.append(_output(table, settings, origins, inputs))
    run = {"runId": str(uuid.uuid4())}
    job = {"namespace": _NAMESPACE, "name": name}
    sources = [
        {**inputs[step], "facets": {"schema": _schema(runner.result(flow, step, Task()).rows.fields)}}
        for step in inputs
        if step in read
    ]
    return [
        _event("START", started, run, job, sources, []),
        _event("COMPLETE", ended, run, job, sources, outputs),
    ]


def write_events(found: Sequence[Mapping[str, Any]], path: Path) -> None:
    """Write events to a file, one a line; OutputError if it cannot be written."""
    try:
        with whole_file(path) as draft:
            lines = [json.dumps(entry, ensure_ascii=False) for entry in found]
            draft.write_text("".join(f"{line}\n" for line in lines), encoding="utf-8")
    except OSError as error:
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy="Choose another folder."
        ) from error


def _event(
    sort: str, at: dt.datetime, run: object, job: object, inputs: Sequence[object], outputs: Sequence[object]
) -> dict[str, Any]:
    return {
        "eventType": sort,
        "eventTime": at.astimezone(dt.UTC).isoformat().replace("+00:00", "Z"),
        "producer": PRODUCER,
        "schemaURL": _EVENT,
        "run": run,
        "job": job,
        "inputs": inputs,
        "outputs": outputs,
    }


def _dataset(path: str, within: str) -> dict[str, str]:
    """A table as the specification names it: by where it is, and what it is called there."""
    file = file_of(path)
    if file is not None:
        place = os.path.realpath(file)
        return {"namespace": "file", "name": f"{place}#{within}" if within else place}
    address = parse(path)[0]
    scheme = "postgres" if address.backend == "postgresql" else address.backend
    port = address.port or (5432 if scheme == "postgres" else None)
    place = f"{scheme}://{address.server}{f':{port}' if port else ''}"
    return {"namespace": place, "name": f"{address.database}.{within}" if within else address.database}


def _output(
    table: Table, settings: OutputSettings, origins: Mapping[str, Origins], inputs: Mapping[str, Any]
) -> dict[str, Any]:
    within = settings.table or (settings.sheet if settings.target.has_sheet else "")
    lineage = {
        name: {"inputFields": [{**inputs[step], "field": field} for step, field in found if step in inputs]}
        for name, found in origins.items()
    }
    return {
        **_dataset(settings.path, within),
        "facets": {
            "schema": _schema(table.fields),
            "columnLineage": {**_facet("1-2-0", "ColumnLineageDatasetFacet"), "fields": lineage},
        },
        "outputFacets": {
            "outputStatistics": {
                **_facet("1-0-2", "OutputStatisticsOutputDatasetFacet"),
                "rowCount": table.rows,
            }
        },
    }


def _schema(fields: Sequence[Field]) -> dict[str, Any]:
    entries = [{"name": field.name, "type": field.type.value} for field in fields]
    return {**_facet("1-1-1", "SchemaDatasetFacet"), "fields": entries}


def _facet(version: str, name: str) -> dict[str, str]:
    return {"_producer": PRODUCER, "_schemaURL": f"{_SPEC}/facets/{version}/{name}.json#/$defs/{name}"}
