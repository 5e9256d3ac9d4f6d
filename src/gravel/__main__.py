"""The console script. Answers what needs no library before any is imported."""

import sys
from typing import Any


class _NoPandas:
    """Arrow imports pandas wherever it is installed (up to half a second) to recognise its objects; no command has any."""

    @staticmethod
    def find_spec(name: str, path: Any = None, target: Any = None) -> None:
        """Refuse to find pandas; every other module is for the next finder."""
        if name == "pandas":
            raise ModuleNotFoundError("no command needs pandas", name=name)


def main() -> None:
    """Run the command line and exit with its status."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from gravel import __version__

        print(f"gravel {__version__}")
        return
    sys.meta_path.insert(0, _NoPandas)
    from gravel.cli.main import run

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
