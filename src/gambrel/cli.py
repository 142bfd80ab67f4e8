"""The command line: `./gambrel COMMAND`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from gambrel import __version__
from gambrel.commands.places import PROJECT, CommandError, complain
from gambrel.demo import SCENARIOS

ABOUT = """\
Gambrel plans backup schedules: it computes what all the jobs of a plan will do together.

  ./gambrel demo     start it with sample data; prints the address and a sign-in link
  ./gambrel test     run all tests
"""


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="./gambrel", description=ABOUT, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--version", action="version", version=f"gambrel {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")

    for name, about in (
        ("demo", "start with the sample plans, until Ctrl+C"),
        ("start", "start with the plans that are stored, until Ctrl+C"),
    ):
        command = commands.add_parser(name, help=about, description=about)
        command.add_argument("--port", type=int, help="port on the loopback interface (8420)")
        if name == "demo":
            command.add_argument("--fresh", action="store_true", help="store the sample plans anew")

    command = commands.add_parser("link", help="print a new one-time sign-in link")
    command.add_argument("--name", help="for whom (Planner); somebody new administers")

    command = commands.add_parser("dump", help="write Gambrel's own data to a file, while it runs")
    command.add_argument("file", metavar="FILE")
    command = commands.add_parser("undump", help="bring Gambrel's own data back from such a file")
    command.add_argument("file", metavar="FILE")
    command.add_argument(
        "--replace", action="store_true", help="in place of plans that are there; dumps them first"
    )

    command = commands.add_parser("simulate", help="simulate a plan file, without a server")
    command.add_argument("plan", metavar="PLAN.json")
    command.add_argument("--from", dest="from_", required=True, metavar="INSTANT")
    command.add_argument("--to", required=True, metavar="INSTANT")
    command.add_argument("--output", metavar="RESULT.json", help="- prints it")
    command.add_argument("--state-at", metavar="INSTANT", help="write what is under way then")
    command.add_argument("--state-output", metavar="PLAN.json", help="the plan with that state")

    command = commands.add_parser(
        "check", help="say whether a week of a plan file fits; for pipelines"
    )
    command.add_argument("plan", metavar="PLAN.json")
    command.add_argument("--week", metavar="DATE", help="any date of the week (the first there is)")
    command.add_argument(
        "--fail-on", choices=("over", "tight"), default="over",
        help="the mildest verdict of a night with which it does not pass (over)",
    )  # fmt: skip
    command.add_argument("--json", metavar="FILE", help="verdicts and findings; - prints them")
    command.add_argument("--junit", metavar="FILE", help="the same as a report of tests")

    command = commands.add_parser("diff", help="say in words what two plan files have otherwise")
    command.add_argument("one", metavar="A.json")
    command.add_argument("other", metavar="B.json")
    command.add_argument("--json", action="store_true", help="as JSON")

    command = commands.add_parser("load", help="store a plan file as the adopted plan")
    command.add_argument("plan", metavar="PLAN.json")
    command.add_argument("--name", help="name of the plan (the file's name)")

    command = commands.add_parser("save", help="write a stored plan to a plan file")
    command.add_argument("--name", help="name of the plan (the one stored last)")
    command.add_argument("--draft", type=int, help="number of a draft (the adopted plan)")
    command.add_argument("--output", default="-", metavar="PLAN.json")

    command = commands.add_parser("sample", help="write a sample plan to a plan file")
    command.add_argument("name", choices=sorted(SCENARIOS))
    command.add_argument("--output", default="-", metavar="PLAN.json")

    command = commands.add_parser(
        "describe", help="write the descriptions of the API, the plan file and its forms"
    )
    command.add_argument("--folder", default=str(PROJECT))

    bench_command = commands.add_parser("bench", help="measure; writes docs/benchmarks.md")
    bench_command.add_argument("sections", nargs="*", help="headings of that page; all if none")

    command = commands.add_parser("drill", help="fuzz, kill, lie; writes docs/reliability.md")
    command.add_argument("arguments", nargs="*", help="some drills by name; --small, --times N")

    command = commands.add_parser("test", help="run all tests and checks")
    command.add_argument("arguments", nargs="*", help="handed to pytest, instead of everything")
    return parser


def _run(options: argparse.Namespace) -> int:
    # Each command imports what it needs: `simulate` must not wait for a web server's packages.
    match options.command:
        case "demo":
            from gambrel.commands import demonstrating

            demonstrating.demo(options.port, fresh=options.fresh)
        case "start" | "link":
            from gambrel.commands import serving

            if options.command == "start":
                serving.start(options.port)
            else:
                serving.link(options.name)
        case "dump" | "undump":
            from gambrel.commands import bringing_back

            if options.command == "dump":
                bringing_back.dump(options.file)
            else:
                bringing_back.undump(options.file, replace=options.replace)
        case "simulate" | "sample":
            from gambrel.commands import files

            if options.command == "simulate":
                files.simulate(
                    options.plan, options.from_, options.to, options.output,
                    options.state_at, options.state_output,
                )  # fmt: skip
            else:
                files.sample(options.name, options.output)
        case "check" | "diff":
            from gambrel.commands import pipeline

            if options.command == "check":
                return pipeline.check(
                    options.plan, options.week, options.fail_on, options.json, options.junit
                )
            return pipeline.diff(options.one, options.other, as_json=options.json)
        case "load" | "save":
            from gambrel.commands import plan_store

            if options.command == "load":
                plan_store.load(options.plan, options.name)
            else:
                plan_store.save(options.name, options.draft, options.output)
        case "describe":
            from pathlib import Path

            from gambrel.commands import descriptions

            descriptions.write_all(Path(options.folder))
        case "bench":
            from gambrel.commands import bench

            return bench.run(options.sections)
        case "drill":
            from gambrel.commands import bench

            return bench.drill(options.arguments)
        case "test":
            from gambrel.commands import checks

            return checks.run(options.arguments)
    return 0


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit code."""
    parser = _parser()
    given = list(sys.argv[1:] if arguments is None else arguments)
    if given[:1] in (["test"], ["drill"]) and not {"-h", "--help"}.intersection(given):
        # What follows is for pytest or the drills, in the order in which it was written.
        options = argparse.Namespace(command=given[0], arguments=given[1:])
    else:
        options = parser.parse_args(given)
    if options.command is None:
        parser.print_help()
        return 0
    try:
        return _run(options)
    except CommandError as error:
        complain(str(error))
        return 1


if __name__ == "__main__":
    sys.exit(main())
