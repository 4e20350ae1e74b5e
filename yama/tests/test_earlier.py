"""What an earlier version of Yama made opens in this one, with everything in it.

`data/earlier.zip` holds a small `var/` as the version before operations had several outputs left it: the rows of its database with
the migrations they were of, the files of its store (but pictures), some cells of each surface, and the recipe of each holding.
"""

from __future__ import annotations

import json
import tempfile
import zipfile
from contextlib import redirect_stderr
from io import StringIO
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.cache import cache
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase, override_settings

from yama.service.holdings.models import Holding
from yama.service.holdings.steps import quantity_of
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.projects.models import Membership
from yama.service.surfaces import keys
from yama.terrain.cli import main
from yama.terrain.surface import StoredSurface

_EARLIER = Path(__file__).parent / "data" / "earlier.zip"


def _value(told):
    if isinstance(told, dict):
        return bytes.fromhex(told["hex"]) if "hex" in told else told["time"].replace("T", " ")
    return told


def _as_cells(told: list[float | None]) -> np.ndarray:
    return np.array([np.nan if one is None else one for one in told])


class EarlierTest(TransactionTestCase):
    """The rows are put into the tables of that version, which are then brought up to date."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        with zipfile.ZipFile(_EARLIER) as packed:
            packed.extractall(self.folder)
        self.expected = json.loads((self.folder / "expected.json").read_text())
        settings = override_settings(STORE_DIR=self.folder / "store")
        settings.enable()
        self.addCleanup(settings.disable)
        cache.clear()

    def _bring_in(self) -> None:
        told = json.loads((self.folder / "rows.json").read_text())
        before = MigrationExecutor(connection)
        newest = before.loader.graph.leaf_nodes()
        before.migrate([(app, name) for app, name in told["migrations"].items() if app in before.loader.migrated_apps])
        with connection.constraint_checks_disabled(), connection.cursor() as cursor:
            for table, held in told["tables"].items():
                columns = ", ".join(f"`{name}`" for name in held["columns"])
                marks = ", ".join(["%s"] * len(held["columns"]))
                cursor.executemany(f"insert into {table} ({columns}) values ({marks})",
                                   [[_value(one) for one in row] for row in held["rows"]])  # fmt: skip
        MigrationExecutor(connection).migrate(newest)

    def test_everything_is_there_and_works(self):
        self._bring_in()
        held = {one.key: one for one in Holding.objects.all()}
        self.assertEqual(len(held), len(self.expected))
        for key, told in self.expected.items():
            holding = held[key]
            with self.subTest(told["name"]):
                self.assertEqual(holding.name, told["name"])
                if "cells" not in told:
                    self.assertEqual(holding.kind, told["kind"])
                    self.assertIsNotNone(keys.held_by(holding))
                    continue
                self.assertEqual(quantity_of(holding), told["quantity"])
                cells = keys.surface_of_holding(holding).read_all()
                np.testing.assert_allclose(cells[::7, ::5].ravel(), _as_cells(told["cells"]), rtol=0, atol=1e-4)
        found = next(one for one in held.values() if one.name == "Whole cells").facts["findings"]
        self.assertEqual(found[0]["fix"]["set_params"], {"step": 0.01})
        units = {one.name: one.facts["units"] for one in held.values() if one.kind == "features"}
        self.assertEqual((units["Lines"], units["Edited"], units["area"]), ({"height": "m"}, {"elev": "m"}, {}))
        client = self.client
        client.force_login(Membership.objects.get(role="editor").user)
        base = f"/api/projects/{Holding.objects.first().project_id}"
        self.assertEqual(len(client.get(f"{base}/holdings").json()), len(held))
        deleted = client.get(f"{base}/deleted").json()
        self.assertEqual([one["name"] for one in deleted], ["Aspect"])
        self.assertEqual(client.post(f"{base}/deleted/{deleted[0]['id']}/restore").status_code, 200)
        with mock.patch("yama.service.jobs.tasks.run_job.delay"):
            asked = client.post(f"{base}/holdings/{held[self._key('Kriged')].pk}/store")
            self.assertEqual(asked.status_code, 202)
        run_job(str(Job.objects.get(state="queued").pk))
        self.assertFalse(Holding.objects.get(name="Kriged").live)

    def _key(self, name: str) -> str:
        return next(key for key, told in self.expected.items() if told["name"] == name)

    def test_its_recipes_are_cooked_to_the_same_cells(self):
        recipes = sorted((self.folder / "recipes").glob("*.json"))
        files = self.folder / "files"
        files.mkdir()
        for path in recipes:
            told = json.loads(path.read_text())
            for source in told["files"].values():
                target = files / source["name"]
                if not target.exists():
                    target.write_bytes((next((self.folder / "store").glob(f"*/{source['file']}.upload"))).read_bytes())
        made = 0
        for path in recipes:
            result = json.loads(path.read_text())["result"]
            told = self.expected[result]
            kind = told.get("kind", "surface")
            out = self.folder / f"{path.stem}{ {'surface': '.tif', 'features': '.gpkg', 'cloud': '.laz'}[kind] }"
            with self.subTest(told["name"]):
                with redirect_stderr(StringIO()) as said:
                    self.assertEqual(
                        main(["cook", str(path), "--files", str(files), "--out", str(out)]), 0, said.getvalue()
                    )
                if kind == "surface":
                    cells = StoredSurface(out).read_all()[::7, ::5].ravel()
                    np.testing.assert_allclose(cells, _as_cells(told["cells"]), rtol=0, atol=1e-4)
                made += 1
        self.assertGreater(made, 30)
