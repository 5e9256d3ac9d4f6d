"""The console script. Answers what needs no library before any is imported."""

import sys


class _NoPandas:
    """Arrow imports pandas wherever it is installed (up to half a second) to recognise its objects; no command has any."""

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        """Refuse to find pandas; every other module is for the next finder."""
        if name == "pandas":
            raise ModuleNotFoundError("no command needs pandas", name=name)


def main() -> None:
    """Run the command line and exit with its status."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from gravel import __version__

        print(f"gravel {__version__}")
        return
    import gc

    gc.set_threshold(100_000, 50, 50)  # little here is in cycles, and looking for them while modules load takes a tenth of the start
    sys.meta_path.insert(0, _NoPandas)  # type: ignore[arg-type]
    try:
        from gravel.cli.main import run

        status = run(sys.argv[1:])
    except KeyboardInterrupt:
        status = 130  # before the program proper has begun, or while it ends
    except MemoryError:
        print("gravel: the memory is used up; nothing was written", file=sys.stderr)
        status = 3
    sys.exit(status)


if __name__ == "__main__":
    main()
