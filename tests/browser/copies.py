"""Copies of the demo project, one for each test: `python -m tests.browser.copies`, in the environment of a running Yama.

It answers each line it is sent with one: `copy` with the number of a new project that holds what the demo does, `enter` with
a token that signs the demo's user in once.
"""

# ruff: noqa: E402 - Django is set up before its models are named
from __future__ import annotations

import os
import sys

import django

django.setup()

from django.contrib.auth.models import User
from django.db import transaction

from yama.service.accounts.models import OneTimeLink
from yama.service.holdings.models import Feature, Holding, Scorecard, project_dir
from yama.service.judging.models import ProjectBrief
from yama.service.projects.models import Membership, Project
from yama.service.upkeep.management.commands.set_up import NAME, USER, brief


@transaction.atomic
def copy() -> int:
    """A new project with the demo's frame, members, holdings, checkpoints and brief; files are the same ones under a
    second name."""
    demo = Project.objects.filter(name=NAME).earliest("pk")
    made = Project.objects.create(name=NAME, frame_data=demo.frame_data)
    for member in Membership.objects.filter(project=demo):
        Membership.objects.create(project=made, user=member.user, role=member.role)
    twins: dict[int, Holding] = {}
    for holding in demo.holdings.order_by("pk"):
        features, old = list(holding.features.all()), holding.pk
        holding.pk, holding.project = None, made
        holding.save(force_insert=True)
        twins[old] = holding
        for feature in features:
            feature.pk, feature.holding = None, holding
        Feature.objects.bulk_create(features, batch_size=500)
    for card in Scorecard.objects.filter(surface__project=demo):
        card.pk, card.surface, card.checkpoints = None, twins[card.surface_id], twins[card.checkpoints_id]
        card.save(force_insert=True)
    if demo.checkpoints_id is not None:
        made.checkpoints = twins[demo.checkpoints_id]
        made.save()
    asked = brief({one.name: one.pk for one in twins.values()})
    ProjectBrief.objects.create(project=made, version=1, content=asked)
    there = project_dir(made.pk)
    for path in project_dir(demo.pk).iterdir():
        if path.is_file():
            os.link(path, there / path.name)
    return int(made.pk)


def main() -> None:
    """Answer until the input ends."""
    for line in sys.stdin:
        if line.strip() == "copy":
            print(copy(), flush=True)
        else:
            print(OneTimeLink.issue(User.objects.get(username=USER)), flush=True)


if __name__ == "__main__":
    main()
