"""The command line. No server is needed.

`yama ops` lists operations, `yama inspect` looks at a file, `yama frame` proposes or makes a frame, `yama do` runs an operation,
`yama profile` reads surfaces along a line, `yama cook` makes again what a recipe describes.

Exit status: 0 done, 1 the work cannot be done (a sentence on standard error says why), 2 wrong usage, 130 interrupted. Every
file is read once in a process of its own within limits, as the service does, before anything is made of it.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from yama.terrain.allocation import keep_freed_memory
from yama.terrain.cli.catalogue import ops
from yama.terrain.cli.frames import frame
from yama.terrain.cli.look import inspect
from yama.terrain.cli.profiles import profile
from yama.terrain.cli.run import cook, do
from yama.terrain.cli.words import answers, box, line, pair
from yama.terrain.errors import TerrainError


def parser() -> argparse.ArgumentParser:
    """The commands and their arguments."""
    top = argparse.ArgumentParser(prog="yama", description="Build and judge elevation surfaces.")
    commands = top.add_subparsers(dest="command", required=True)

    def command(name: str, run: object, says: str) -> argparse.ArgumentParser:
        made = commands.add_parser(name, help=says, description=says[:1].upper() + says[1:] + ".")
        made.set_defaults(run=run)
        return made

    def of_files(made: argparse.ArgumentParser) -> None:
        made.add_argument("--crs", default="", help="CRS of files that name none")
        made.add_argument("--declare", dest="declared", action="append", default=[], type=pair, metavar="NAME=VALUE",
                          help="say what a file does not: crs, unit, nodata, swap, leave_out, layer, band, height")  # fmt: skip

    listed = command("ops", ops, "list operations and their parameters")
    listed.add_argument("name", nargs="?", default="", help="of one operation, to see what each parameter may be")
    listed.add_argument("--json", action="store_true")

    looked = command("inspect", inspect, "say what a file is and what is wrong with it")
    looked.add_argument("file")
    looked.add_argument("--json", action="store_true")
    of_files(looked)

    framed = command("frame", frame, "propose a frame for files, or make one of a CRS, a cell size and bounds")
    framed.add_argument("files", nargs="*", metavar="FILE", help="sources that the frame is to hold")
    framed.add_argument("--within", metavar="FILE", help="polygons that say which area is meant")
    framed.add_argument("--bounds", type=box, metavar="WEST,SOUTH,EAST,NORTH", help="the area, in the frame's CRS")
    framed.add_argument("--frame-crs", default="", metavar="CRS", help="the frame's CRS; proposed if left out")
    framed.add_argument(
        "--cell", type=float, metavar="SIZE", help="side of a cell in units of that CRS; proposed if left out"
    )
    framed.add_argument("--unit", choices=("m", "ft", "us-ft"), default="m", help="of heights")
    framed.add_argument(
        "--zero", default="", metavar="NAME", help="what height 0 means, such as the name of a vertical datum"
    )
    framed.add_argument("--out", metavar="FRAME.json", help="printed if left out")
    of_files(framed)

    done = command("do", do, "run one operation on files")
    done.add_argument("operation")
    done.add_argument("--in", dest="inputs", action="append", default=[], type=pair, metavar="ROLE=FILE")
    done.add_argument("--set", dest="settings", action="append", default=[], type=pair, metavar="NAME=VALUE")
    done.add_argument("--frame", metavar="FRAME.json", help="the grid to build on; taken from the inputs if left out")
    of_files(done)
    done.add_argument("--out", required=True, help="file of the first output")
    done.add_argument("--also", action="append", default=[], type=pair, metavar="OUTPUT=FILE",
                      help="another output; `yama ops` lists them")  # fmt: skip
    done.add_argument("--recipe", metavar="RECIPE.json", help="write down how the result was made")

    along = command("profile", profile, "heights of surfaces along a line, every so many metres")
    along.add_argument("surfaces", nargs="+", metavar="SURFACE")
    where = along.add_mutually_exclusive_group(required=True)
    where.add_argument(
        "--line", type=line, metavar='"X,Y X,Y ..."', help="its corners, in the CRS of the first surface"
    )
    where.add_argument("--along", metavar="FILE", help="a file that holds the line")
    along.add_argument(
        "--step", type=float, metavar="METRES", help="from one height to the next; the finest cell if left out"
    )
    along.add_argument("--cells", action="store_true", help="as steps from cell to cell, not bilinearly")
    of_files(along)
    along.add_argument("--out", metavar="FILE", help=".csv or .json; CSV is printed if left out")

    cooked = command("cook", cook, "make again what a recipe describes")
    cooked.add_argument("recipe")
    cooked.add_argument("--files", metavar="FOLDER", help="where the source files are; beside the recipe if left out")
    cooked.add_argument("--out", required=True)
    return top


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit status."""
    arguments = parser().parse_args(argv)
    keep_freed_memory()
    try:
        arguments.run(arguments)
    except TerrainError as error:
        print(f"yama: {error}{answers(error)}", file=sys.stderr)
        return 1
    except BrokenPipeError:  # whoever read what is printed has gone
        sys.stdout = None  # type: ignore[assignment]
        return 1
    except OSError as error:
        print(f"yama: {error.filename or ''}: {error.strerror or error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("yama: stopped.", file=sys.stderr)
        return 130
    return 0
