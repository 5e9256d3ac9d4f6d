"""Kernels over Arrow buffers, compiled.

`source` has them in plain Python. Numba compiles them when the package is built (`compiling`) to
LLVM IR for no processor in particular; `machine` makes machine code of that when they are first
used, with llvmlite alone. `unicode` makes the tables that they look characters up in.
"""

from pathlib import Path

CODE = Path(__file__).with_name("kernels.ll")
TABLES = Path(__file__).with_name("unicode.npz")
