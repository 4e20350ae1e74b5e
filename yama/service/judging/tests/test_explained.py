from yama.service.tests.base import GRID, ServiceTest


class ExplainTest(ServiceTest):
    def made(self, operation, inputs, params=None, name="made", live=False):
        asked = {"operation": operation, "inputs": inputs, "params": params or {}, "name": name, "live": live}
        self.ask("POST", "/runs", asked, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def explained(self, holding, x=448_301.0, y=5_438_301.0):
        told = self.ask("POST", f"/holdings/{holding.pk}/explain", {"x": x, "y": y}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        self.assertEqual(told["job"]["id"], str(job.pk))
        return self.ask("GET", f"/explained/{job.pk}")

    def test_a_chain_is_followed_down_to_its_files_with_what_each_step_changed(self):
        one, other = self.add_surface(), self.add_surface(4.0)
        joined = self.made("mosaic", {"surfaces": [one.pk, other.pk]}, {"rule": "mean"}, "Joined")
        higher = self.made("change_heights", {"surface": joined.pk}, {"offset": 2.5}, "Higher", live=True)
        told = self.explained(higher)
        lines = told["lines"]
        self.assertEqual([line["depth"] for line in lines], [0, 1, 2, 2])
        self.assertEqual([line["name"] for line in lines[:2]], ["Higher", "Joined"])
        self.assertAlmostEqual(lines[0]["change"], 2.5, places=3)
        low, high = sorted(lines[2:], key=lambda line: line["height"])
        self.assertAlmostEqual(high["height"] - low["height"], 4.0, places=3)
        self.assertAlmostEqual(lines[1]["height"], low["height"] + 2.0, places=3)
        for line in (low, high):
            self.assertAlmostEqual(line["weight"], 0.5, delta=0.01)

    def test_points_tell_the_nearest_of_them(self):
        points = self.add_points(seed=7)
        tin = self.made("interpolate_points", {"points": points.pk}, name="TIN")
        lines = self.explained(tin)["lines"]
        self.assertEqual([line["kind"] for line in lines], ["surface", "points"])
        self.assertIn("Nearest points: ", lines[1]["remark"])
        self.assertEqual(lines[0]["operation"], "Interpolate points")

    def test_patches_tell_what_they_change_here(self):
        held = self.add_surface()
        x, y = GRID.x_of(100), GRID.y_of(100)
        ring = [[x - 20, y - 20], [x + 20, y - 20], [x + 20, y + 20], [x - 20, y + 20]]
        patch = {"name": "Pond", "ring": ring, "operator": {"kind": "raise", "by": 3.0}, "feather": 0}
        mended = self.made("mend", {"surface": held.pk}, {"patches": [patch]}, "Mended")
        lines = self.explained(mended, float(x), float(y))["lines"]
        self.assertEqual([line["kind"] for line in lines], ["surface", "patch", "surface"])
        self.assertAlmostEqual(lines[1]["change"], 3.0, places=3)
        self.assertAlmostEqual(lines[0]["change"], 3.0, places=3)
        outside = self.explained(mended, float(x) + 80, float(y))["lines"]
        self.assertEqual([line["kind"] for line in outside], ["surface", "surface"])

    def test_what_says_no_heights_has_its_own_unit_and_no_change(self):
        one, other = self.add_surface(), self.add_surface(4.0)
        slope = self.made("slope", {"surface": one.pk}, name="Slope")
        lines = self.explained(slope)["lines"]
        self.assertEqual([line["unit"] for line in lines], ["°", "m"])
        self.assertIsNone(lines[0]["change"])
        # the source of each cell is no mean of heights
        asked = {
            "operation": "mosaic",
            "inputs": {"surfaces": [one.pk, other.pk]},
            "params": {"rule": "mean"},
            "name": "Joined",
            "outputs": ["source"],
        }
        self.ask("POST", "/runs", asked, 202)
        self.run_jobs()
        source = next(one for one in self.project.holdings.all() if one.key.endswith(":source"))
        first = self.explained(source)["lines"][0]
        self.assertEqual((first["change"], first["remark"]), (None, ""))

    def test_what_was_deleted_is_told_as_gone(self):
        one = self.add_surface()
        higher = self.made("change_heights", {"surface": one.pk}, {"offset": 1.0}, "Higher")
        one.delete()
        lines = self.explained(higher)["lines"]
        self.assertEqual(lines[1]["name"], "something that was deleted")
        self.assertIsNone(lines[0]["change"])

    def test_a_place_outside_is_empty_and_nonsense_is_refused(self):
        held = self.add_surface()
        (line,) = self.explained(held, 1.0, 1.0)["lines"]
        self.assertIsNone(line["height"])
        self.ask("POST", f"/holdings/{self.add_points().pk}/explain", {"x": 1, "y": 1}, 422)
