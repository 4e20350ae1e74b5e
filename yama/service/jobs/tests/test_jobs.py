"""Jobs: one worker at a time, cancel, a lost worker's job done once more and then given up."""

import os
import time
from datetime import timedelta
from unittest import mock

from django.db import OperationalError
from django.utils import timezone

from yama.service.holdings.models import Holding, project_dir
from yama.service.jobs import register, running, tasks
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import LaterError, Outcome
from yama.service.jobs.queue import submit
from yama.service.jobs.sweeping import sweep
from yama.service.jobs.watch import look_after_jobs
from yama.service.tests.base import ServiceTest, table
from yama.terrain.errors import CancelledError, InputError


class JobTest(ServiceTest):
    def job(self, kind="test", key=""):
        return submit(self.project, kind, "A test", {}, self.people["editor"].pk, key)

    def run_with(self, work, job=None):
        job = job or self.job()
        with mock.patch.dict(register._KINDS, {"test": register.Kind(work, lambda job: None)}):
            tasks.run_job(str(job.pk))
        job.refresh_from_db()
        return job

    def go_silent(self, job, seconds=60):
        Job.objects.filter(pk=job.pk).update(heard_at=timezone.now() - timedelta(seconds=seconds))

    def test_a_job_is_claimed_once(self):
        job = self.job()
        self.assertIsNotNone(running.claim(str(job.pk)))
        self.assertIsNone(running.claim(str(job.pk)))

    def test_each_way_to_end(self):
        def refuse(job, progress):
            raise InputError("The heights are missing.")

        def break_down(job, progress):
            raise ZeroDivisionError

        def stop(job, progress):
            raise CancelledError("Cancelled; nothing was kept.")

        done = self.run_with(lambda job, progress: Outcome())
        self.assertEqual((done.state, done.progress), ("done", 1.0))
        refused = self.run_with(refuse)
        self.assertEqual((refused.state, refused.message, refused.log), ("failed", "The heights are missing.", ""))
        broken = self.run_with(break_down)
        self.assertIn("ZeroDivisionError", broken.message)
        self.assertIn("break_down", broken.log)
        self.assertEqual(self.run_with(stop).state, "cancelled")

    def test_cancelling_stops_the_work_and_keeps_nothing(self):
        def long_work(job, progress):
            Job.objects.filter(pk=job.pk).update(cancel_requested=True)
            for step in range(400):
                progress(step / 400)
                time.sleep(0.02)
            return Outcome()

        job = self.run_with(long_work)
        self.assertEqual(job.state, "cancelled")
        self.assertLess(job.progress, 1.0)

    def test_cancelling_before_it_begins(self):
        job = self.job()
        self.assertEqual(self.ask("POST", f"/jobs/{job.pk}/cancel")["state"], "cancelled")
        self.assertIsNone(running.claim(str(job.pk)))

    def test_a_lost_workers_job_runs_once_more_then_fails(self):
        job = self.job()
        for tries in (1, 2):
            claimed = running.claim(str(job.pk))
            self.assertEqual(claimed.tries, tries)
            self.assertEqual(look_after_jobs(), 0, "it was heard of just now")
            self.go_silent(job)
            self.assertEqual(look_after_jobs(), 1)
            job.refresh_from_db()
            self.assertEqual(job.state, "queued" if tries == 1 else "failed")
        self.assertIn("ended twice in the middle", job.message)
        self.assertEqual(self.woken.call_count, 2)

    def test_a_worker_given_up_for_dead_cannot_end_the_job(self):
        job = self.job()
        first = running.claim(str(job.pk))
        self.go_silent(job)
        look_after_jobs()
        second = running.claim(str(job.pk))
        running._end(first, Job.State.DONE)
        job.refresh_from_db()
        self.assertEqual((job.state, job.worker), ("running", second.worker))

    def test_a_lost_job_that_was_cancelled_is_not_run_again(self):
        job = self.job()
        running.claim(str(job.pk))
        Job.objects.update(cancel_requested=True)
        self.go_silent(job)
        look_after_jobs()
        job.refresh_from_db()
        self.assertEqual(job.state, "cancelled")

    def test_a_job_whose_message_was_lost_is_woken(self):
        job = self.job()
        Job.objects.update(created_at=timezone.now() - timedelta(seconds=60))
        self.assertEqual(look_after_jobs(), 1)
        self.assertEqual(self.woken.call_args.args, (str(job.pk),))
        self.assertEqual(look_after_jobs(), 0, "not again at once")

    def test_while_it_runs_it_is_heard_of(self):
        def work(job, progress):
            self.go_silent(job)
            progress(0.4)
            for _ in range(60):
                time.sleep(0.05)
                job.refresh_from_db()
                if job.heard_at > timezone.now() - timedelta(seconds=5):
                    return Outcome()
            raise AssertionError("no sign of life")

        self.assertEqual(self.run_with(work).state, "done")

    def test_one_open_job_a_key(self):
        self.assertEqual(self.job(key="k").pk, self.job(key="k").pk)
        self.assertNotEqual(self.job(key="k").pk, self.job(key="other").pk)

    def test_killed_in_the_middle_leaves_no_half_holding(self):
        points = self.add_points()
        self.ask("POST", "/runs", {"operation": "interpolate_points", "inputs": {"points": points.pk}}, 202)
        job = Job.objects.filter(kind="run").get()
        part = project_dir(self.project.pk) / f"{job.key}.tif.abcd.raw.part"
        part.write_bytes(b"half")
        running.claim(str(job.pk))  # and then nothing more was heard of it
        self.assertEqual(Holding.objects.filter(kind="surface").count(), 0)
        self.go_silent(job)
        look_after_jobs()
        self.run_jobs()
        job.refresh_from_db()
        self.assertEqual((job.state, job.tries), ("done", 2))
        self.assertEqual(sweep(), [], "a fresh part may be somebody's work")
        os.utime(part, (0, 0))
        self.assertEqual(sweep(), [f"{self.project.pk}/{part.name}"])

    def test_a_file_that_nobody_took_in_is_dropped_after_a_day(self):
        self.add_points()
        text = table(seed=9)
        answer = self.client.post(
            f"{self.base}/uploads?name=b.csv&look=true", text, content_type="application/octet-stream"
        )
        left = project_dir(self.project.pk) / f"{answer.json()['table']['file_key']}.upload"
        for path in project_dir(self.project.pk).glob("*.upload"):
            os.utime(path, (0, 0))
        waiting = submit(self.project, "take_in", "Take in b", {"file_key": left.stem}, self.people["editor"].pk, "k")
        self.assertEqual(sweep(), [], "a job is open that is about to use it")
        Job.objects.filter(pk=waiting.pk).delete()
        self.assertEqual(sweep(), [f"{self.project.pk}/{left.name}"])
        self.assertFalse(left.exists())
        self.assertEqual(len(list(project_dir(self.project.pk).glob("*.upload"))), 1)

    def test_what_no_row_speaks_of_is_swept_and_nothing_else(self):
        held = [self.add_points(), self.add_surface()]
        folder = project_dir(self.project.pk)
        before = {path.name for path in folder.iterdir()}
        for name in ("0123abcd.tif", "0123abcd.tif.part", "0123abcd.upload", "0123abcd.png", "stray"):
            (folder / name).write_bytes(b"x")
        for name in ("work-abc", "unpack-abc", "package-abc"):
            (folder / name).mkdir()
            (folder / name / "inside").write_bytes(b"x")
        (folder / "quick-skerry.tif").write_bytes(b"x")
        gone = project_dir(self.project.pk + 1000)
        (gone / "of-no-project.tif").write_bytes(b"x")
        self.assertEqual(sweep(), [], "all of it was touched today")
        for path in (*folder.rglob("*"), *gone.rglob("*")):
            os.utime(path, (0, 0))
        swept = sweep()
        self.assertEqual({path.name for path in folder.iterdir()} - {"packages"}, before | {"quick-skerry.tif"})
        self.assertEqual(len(swept), 9)
        for one in held:
            self.assertTrue(one.upload_path.exists())

    def test_a_database_that_is_away_for_a_moment_costs_no_job_its_result(self):
        truth, calls = Job.objects.filter, []

        def away(*args, **kwargs):
            """The database does not answer the first two times that an ending is written."""
            if kwargs.get("state") == Job.State.RUNNING and "worker" in kwargs and len(calls) < 2:
                calls.append(1)
                raise OperationalError(2013, "Lost connection to server during query")
            return truth(*args, **kwargs)

        def work(job, progress):
            patched.start()
            return Outcome()

        patched = mock.patch.object(Job.objects, "filter", side_effect=away)
        self.addCleanup(patched.stop)
        with mock.patch.object(running.Running, "_beat"):
            done = self.run_with(work)
        self.assertEqual((done.state, len(calls)), ("done", 2))

    def test_work_that_loses_the_database_is_done_again_once(self):
        def lose(job, progress):
            raise OperationalError(2006, "Server has gone away")

        first = self.run_with(lose)
        self.assertEqual((first.state, first.tries), ("queued", 1))
        Job.objects.filter(pk=first.pk).update(not_before=None)
        self.assertEqual(self.run_with(lambda job, progress: Outcome(), first).state, "done")
        other = self.run_with(lose)
        Job.objects.filter(pk=other.pk).update(not_before=None)
        second = self.run_with(lose, other)
        self.assertEqual(second.state, "failed")
        self.assertIn("The database went away", second.message)

    def test_work_that_has_to_wait_gives_its_worker_back_and_is_woken_in_time(self):
        def wait(job, progress):
            raise LaterError(30)

        job = self.run_with(wait)
        self.assertEqual((job.state, job.tries, job.worker), ("queued", 0, ""))
        self.woken.reset_mock()
        look_after_jobs()
        self.woken.assert_not_called()
        self.assertIsNone(running.claim(str(job.pk)))
        Job.objects.filter(pk=job.pk).update(not_before=timezone.now())
        look_after_jobs()
        self.woken.assert_called_once_with(str(job.pk))
        job = self.run_with(lambda job, progress: Outcome(), job)
        self.assertEqual((job.state, job.tries), ("done", 1))

    def test_cancelled_while_it_waits(self):
        def wait(job, progress):
            Job.objects.filter(pk=job.pk).update(cancel_requested=True)
            raise LaterError(30)

        self.assertEqual(self.run_with(wait).state, "cancelled")

    def test_a_broker_that_is_away_only_delays(self):
        from kombu.exceptions import OperationalError

        self.woken.side_effect = OperationalError("away")
        self.send(table())
        self.assertEqual(Job.objects.get().state, "queued")

    def test_failures_can_be_put_aside(self):
        def refuse(job, progress):
            raise InputError("No.")

        job = self.run_with(refuse)
        self.assertFalse(self.ask("GET", f"/jobs/{job.pk}")["seen"])
        self.assertTrue(self.ask("POST", f"/jobs/{job.pk}/seen")["seen"])
