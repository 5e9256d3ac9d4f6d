"""The console script. Answers what needs no library before any is imported."""

import sys


def main() -> None:
    """Run the command line and exit with its status."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from gravel import __version__

        print(f"gravel {__version__}")
        return
    from gravel.cli.main import run

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
