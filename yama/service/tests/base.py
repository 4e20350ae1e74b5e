"""What the service's tests share: people, a small project, files, and jobs run on the spot."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import TransactionTestCase, override_settings

from yama.service.holdings.models import Holding
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.projects.models import Membership, Project
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, store

GRID = Grid("EPSG:32741", 448_000.0, 5_438_600.0, 2.0, 2.0, 300, 300)


def table(count=200, seed=1, plane=0.1) -> bytes:
    """A CSV of points on a plane over GRID."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(448_000, 448_600, count), rng.uniform(5_438_000, 5_438_600, count)
    rows = [f"{a:.2f},{b:.2f},{plane * (a - 448_000):.3f},{'spot' if i % 5 == 0 else 'ground'}"
            for i, (a, b) in enumerate(zip(x, y, strict=True))]  # fmt: skip
    return ("x,y,z,code\n" + "\n".join(rows) + "\n").encode()


class ServiceTest(TransactionTestCase):
    """A store folder of its own, an owner, an editor, a viewer, an outsider, and jobs that are run when asked."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        settings = override_settings(STORE_DIR=self.folder / "store")
        settings.enable()
        self.addCleanup(settings.disable)
        cache.clear()
        woken = mock.patch("yama.service.jobs.tasks.run_job.delay")
        self.woken = woken.start()
        self.addCleanup(woken.stop)
        self.project = Project.objects.create(name="Avel", frame_data=Frame(GRID, "m", "").to_dict())
        self.people = {}
        for role in ("owner", "editor", "viewer", "outsider"):
            user = User.objects.create(username=role)
            self.people[role] = user
            if role != "outsider":
                Membership.objects.create(project=self.project, user=user, role=role)
        self.client.force_login(self.people["editor"])
        self.base = f"/api/projects/{self.project.pk}"

    def as_role(self, role: str | None) -> None:
        """Sign in as that person, or out."""
        if role is None:
            self.client.logout()
        else:
            self.client.force_login(self.people[role])

    def ask(self, method: str, path: str, body=None, status=200):
        """Ask the API under the project; returns the JSON (or bytes) of an answer that must have `status`."""
        data = b"" if body is None else json.dumps(body)
        response = self.client.generic(method, self.base + path, data, content_type="application/json")
        told = b"" if response.streaming else response.content[:600]
        self.assertEqual(response.status_code, status, told)
        kind = response.headers.get("Content-Type", "")
        return response.json() if kind.startswith("application/json") and response.content else response

    def send(self, data: bytes, name="points.csv", status=202, crs=""):
        """Upload bytes."""
        query = f"?name={name}" + (f"&crs={crs}" if crs else "")
        response = self.client.post(f"{self.base}/uploads{query}", data, content_type="application/octet-stream")
        self.assertEqual(response.status_code, status, response.content[:600])
        return response.json()

    def run_jobs(self) -> list[Job]:
        """Run what waits, as a worker would; returns all jobs, newest first."""
        for job in Job.objects.filter(state=Job.State.QUEUED).order_by("created_at"):
            run_job(str(job.pk))
        return list(Job.objects.all())

    def add_points(self, **values) -> Holding:
        """Points taken in."""
        self.send(table(**values), f"points{values.get('seed', 1)}.csv")
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def raster(self, offset=0.0, grid=GRID) -> bytes:
        """A GeoTIFF of the same plane, some metres higher."""
        xs, _ = grid.centres(grid.whole)
        heights = np.tile(0.1 * (xs - 448_000) + offset, (grid.rows, 1))
        store(ArraySurface(heights, grid), self.folder / "made.tif")
        return (self.folder / "made.tif").read_bytes()

    def add_surface(self, offset=0.0, grid=GRID) -> Holding:
        """A surface taken in."""
        self.send(self.raster(offset, grid), f"surface {offset}.tif")
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding
