"""The catalogue of operations. Importing it registers every one."""

from yama.terrain.operations import (  # noqa: F401
    best_of_all,
    brief,
    calculate,
    cell_type,
    change_heights,
    clip,
    contour_surface,
    contours,
    difference_figures,
    drain,
    edit_features,
    fill_voids,
    find_ground,
    fit_to_frame,
    grid_cloud,
    heights,
    image_pair,
    interpolate_points,
    judge,
    mend,
    mosaic,
    relief,
    scorecard,
    shift,
    spline_smoothing,
    uncertainty,
    variogram,
    which_method,
    worst_places,
)
from yama.terrain.operations.inputs import Given, Inputs, Role
from yama.terrain.operations.operation import Operation, View
from yama.terrain.operations.register import catalogue, describe, find
from yama.terrain.operations.results import Output, Result, Results, findings_of
from yama.terrain.operations.task import Task, make_step, parse_params, task_of

__all__ = [
    "Given",
    "Inputs",
    "Operation",
    "Output",
    "Result",
    "Results",
    "Role",
    "Task",
    "View",
    "catalogue",
    "describe",
    "find",
    "findings_of",
    "make_step",
    "parse_params",
    "task_of",
]
