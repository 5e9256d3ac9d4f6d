"""The console script. Answers what needs no library before any is imported."""

import sys

# MiB of address space: below that libraries fail while they load, some of them without a word
LEAST = 512


def _too_little() -> int:
    """The MiB that the process may have, where they are too few, else 0."""
    try:
        import resource
    except ImportError:
        return 0
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    return limit >> 20 if limit != resource.RLIM_INFINITY and limit >> 20 < LEAST else 0


def main() -> None:
    """Run the command line and exit with its status."""
    if sys.argv[1:] in (["--version"], ["-V"]):
        from gravel.version import __version__

        print(f"gravel {__version__}")
        return
    import gc
    import os

    from gravel.library_imports import load_less

    if too_little := _too_little():
        print(
            f"gravel: a process may have {too_little} MiB of memory here, and at least {LEAST} are"
            " needed\nhint: ulimit -v",
            file=sys.stderr,
        )
        sys.exit(3)
    os.environ.setdefault(
        "OPENBLAS_NUM_THREADS", "1"
    )  # no command does linear algebra, and each of its threads takes memory
    gc.set_threshold(
        100_000,
        50,
        50,
        # Little here is in cycles; looking for them while modules load takes a tenth of the start.
    )
    load_less()
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
