"""What is raised where a loop cannot be compiled, before anything is imported of Numba."""

__all__ = ["Unsound"]


class Unsound(RuntimeError):  # noqa: N818
    """A loop can not be compiled with this version of Numba."""
