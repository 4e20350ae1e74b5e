"""What is warmed is all there is: no request waits for a compiler."""

import importlib
import pkgutil
import sys

from django.test import SimpleTestCase
from numba.core.dispatcher import Dispatcher

import yama.terrain
from yama.terrain.kernels import Waiting
from yama.terrain.warming import warm


def kernels() -> dict[int, Dispatcher | Waiting]:
    """Every kernel of the core."""
    for module in pkgutil.walk_packages(yama.terrain.__path__, "yama.terrain."):
        if ".tests" not in module.name and not module.name.endswith(("__main__", ".nursery")):
            importlib.import_module(module.name)
    return {
        id(value): value
        for name, module in list(sys.modules.items())
        if name.startswith("yama.terrain.") and ".tests" not in name
        for value in vars(module).values()
        if isinstance(value, (Dispatcher, Waiting))
    }


def called_by(one: Dispatcher | Waiting) -> list[Dispatcher]:
    """Kernels that a kernel names."""
    there = one.py_func.__globals__
    return [there[name] for name in one.py_func.__code__.co_names if isinstance(there.get(name), Dispatcher)]


class WarmingTest(SimpleTestCase):
    def test_every_kernel_is_run(self):
        kernels()  # loads every module
        warm()
        every = kernels()
        self.assertGreater(len(every), 150)
        run = {number for number, one in every.items() if getattr(one, "signatures", ())}
        todo = list(run)
        while todo:  # a kernel loaded from disk brings those it calls within it
            for other in called_by(every[todo.pop()]):
                if id(other) not in run and id(other) in every:
                    run.add(id(other))
                    todo.append(id(other))
        left = [
            f"{one.py_func.__module__}.{one.py_func.__name__}" for number, one in every.items() if number not in run
        ]
        self.assertEqual(left, [])
