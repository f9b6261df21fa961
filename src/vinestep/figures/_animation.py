"""Pictures one after another, as a GIF."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path

from ..errors import DataError

__all__ = ["animation"]


def animation(
    pictures: Sequence[bytes], path: str | Path, *, seconds: float = 0.4, last: float = 1.5
) -> Path:
    """Write pictures as a GIF that begins anew at its end, such as fixed samples over a run.

    Parameters
    ----------
    pictures : sequence of bytes
        PNG files, of one size.
    path : path
    seconds : float
        Each is shown so long.
    last : float
        The last one.

    Raises
    ------
    DataError
        If there is none, or their sizes differ.

    Examples
    --------
    >>> import tempfile
    >>> one = vs.figures.as_png(
    ...     vs.figures.curves([{"epoch": 1, "step": 5, "rate": 0.1, "loss": 2.0}])
    ... )
    >>> vs.figures.animation([one, one], tempfile.mkdtemp() + "/curves.gif").name
    'curves.gif'
    """
    from PIL import Image

    frames = [Image.open(BytesIO(picture)).convert("RGB") for picture in pictures]
    if not frames:
        raise DataError("animation: there are no pictures.")
    sizes = {frame.size for frame in frames}
    if len(sizes) > 1:
        raise DataError(
            "animation: pictures of one size are wanted; these have "
            f"{', '.join(map(str, sorted(sizes)))}."
        )
    target = Path(path)
    temporary = target.with_name(f".{target.name}.part")
    lasting = [int(1000 * seconds)] * (len(frames) - 1) + [int(1000 * last)]
    try:
        frames[0].save(
            temporary,
            format="GIF",
            save_all=True,
            append_images=frames[1:],
            duration=lasting,
            loop=0,
        )
        temporary.replace(target)
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise
    return target
