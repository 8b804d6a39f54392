"""The lineage of a run, as a client of the standard takes it, and as the flow has it."""

import datetime as dt
import json
import tempfile
import unittest
from pathlib import Path

from click.testing import CliRunner
from openlineage.client import event_v2
from openlineage.client.generated.column_lineage_dataset import ColumnLineageDatasetFacet, Fields, InputField
from openlineage.client.generated.output_statistics_output_dataset import OutputStatisticsOutputDatasetFacet
from openlineage.client.generated.schema_dataset import SchemaDatasetFacet, SchemaDatasetFacetFields

from keen_trellis.cli import main
from keen_trellis.demo.season_report import write_report
from keen_trellis.session.lineage import PRODUCER
from tests import demo_data


def plain(members):
    """Members of a facet without those that each has, which are looked at."""
    kept = dict(members)
    url = kept.pop("_schemaURL")
    assert url.startswith("https://openlineage.io/spec/facets/"), url
    assert kept.pop("_producer") == PRODUCER
    return kept


def by_the_client(event):
    """The event as the standard's own client makes one: it refuses members and values that are none."""
    outputs = []
    for entry in event["outputs"]:
        facets, statistics = dict(entry["facets"]), entry["outputFacets"]["outputStatistics"]
        lineage = {
            name: Fields([InputField(**found) for found in fields["inputFields"]])
            for name, fields in plain(facets["columnLineage"])["fields"].items()
        }
        made = {"schema": schema(facets["schema"]), "columnLineage": ColumnLineageDatasetFacet(lineage)}
        counted = {"outputStatistics": OutputStatisticsOutputDatasetFacet(**plain(statistics))}
        outputs.append(
            event_v2.OutputDataset(entry["namespace"], entry["name"], facets=made, outputFacets=counted)
        )
    inputs = [
        event_v2.InputDataset(
            entry["namespace"], entry["name"], facets={"schema": schema(entry["facets"]["schema"])}
        )
        for entry in event["inputs"]
    ]
    known = {"schemaURL", "eventType", "run", "job", "inputs", "outputs"}
    rest = {name: value for name, value in event.items() if name not in known}
    return event_v2.RunEvent(
        eventType=event_v2.RunState[event["eventType"]],
        run=event_v2.Run(**event["run"]),
        job=event_v2.Job(**event["job"]),
        inputs=inputs,
        outputs=outputs,
        **rest,
    )


def schema(facet):
    return SchemaDatasetFacet([SchemaDatasetFacetFields(**entry) for entry in plain(facet)["fields"]])


class Lineage(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory(prefix="keen-trellis-tests-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.file = self.folder / "lineage.jsonl"

    def events(self, *words):
        result = CliRunner().invoke(main, [*map(str, words), "--lineage", str(self.file)])
        self.assertEqual(result.exit_code, 0, result.output)
        found = [json.loads(line) for line in self.file.read_text().splitlines()]
        self.assertEqual([event["eventType"] for event in found], ["START", "COMPLETE"])
        self.assertEqual(found[0]["run"], found[1]["run"])
        for event in found:
            by_the_client(event)
            dt.datetime.fromisoformat(event["eventTime"])
        return found[1]

    def read(self, event, output=0):
        """Of each field that was written the fields that it is read from, each as table and field."""
        fields = event["outputs"][output]["facets"]["columnLineage"]["fields"]
        return {
            name: {(Path(entry["name"]).name, entry["field"]) for entry in found["inputFields"]}
            for name, found in fields.items()
        }

    def test_a_run(self):
        data = demo_data.copy(self.folder)
        write_report(self.folder)
        event = self.events("run", data / "Season report.trellis", "--replace")
        self.assertEqual(event["job"]["name"], "Season report")
        self.assertEqual([Path(entry["name"]).name for entry in event["inputs"]], ["loans-2026.xlsx#Loans"])
        self.assertEqual(
            event["outputs"][0]["name"], f"{(self.folder / 'Season report.xlsx').resolve()}#Months"
        )
        self.assertEqual(event["outputs"][0]["outputFacets"]["outputStatistics"]["rowCount"], 12)
        loans = "loans-2026.xlsx#Loans"
        self.assertEqual(
            self.read(event),
            {"month": {(loans, "Out date")}, "loans": set(), "agreed value": {(loans, "Agreed value")}},
        )

    def test_a_blend_of_joins(self):
        data = demo_data.copy(self.folder)
        event = self.events("run", data / "Cost per visitor.trellis", "--replace")
        read = self.read(event)
        self.assertEqual(
            read["Object no"],
            {("loans-2026.xlsx#Loans", "Object no"), ("registry.sqlite#objects", "accession")},
        )
        self.assertEqual(read["title"], {("registry.sqlite#objects", "title")})
        self.assertIn(("courier-logs", "cost"), read["sum of cost"])
        self.assertEqual(read["sum of Visitors"], {("visitors.ods#Visitors", "Visitors")})

    def test_a_match(self):
        for name, content in (("a", "k,v\n1,x\n"), ("b", "k,w\n1,y\n")):
            (self.folder / f"{name}.csv").write_text(content)
        words = ("match", self.folder / "a.csv", self.folder / "b.csv", "--link", "k=k")
        event = self.events(*words, "--write", self.folder / "out.csv")
        self.assertEqual(
            self.read(event),
            {"k": {("a.csv", "k"), ("b.csv", "k")}, "v": {("a.csv", "v")}, "w": {("b.csv", "w")}},
        )


if __name__ == "__main__":
    unittest.main()
