"""What can be recorded at a step besides numbers: pictures, figures, tables, texts, arrays,
distributions.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from io import BytesIO
from typing import TYPE_CHECKING, Any

import numpy as np

from ...errors import RunError

if TYPE_CHECKING:
    from ...storage.run_store import RunStore
    from ._results import Position

__all__ = ["Attachments"]

BINS = 40
LEAST_WIDTH = 96  # pixels: smaller pictures are enlarged, without smoothing


class Attachments:
    """The calls by which a run's loop and its observers record; without a store they do nothing.

    Examples
    --------
    >>> store = vs.training.MemoryStore()
    >>> with vs.recorded_run({"noise": vs.RandomStream(0)}, steps=1, record=store) as run:
    ...     for number in run.steps():
    ...         run.text("generated", "old vines")
    ...         run.picture("leaf", np.zeros((32, 32, 3), np.uint8))
    ...         run.distribution("noise", np.arange(5.0))
    >>> [name for name in store.file_names() if name.endswith(("1.txt", "1.png", "1.csv"))]
    ['generated-00000001.txt', 'leaf-00000001.png', 'noise-00000001.csv']
    """

    store: RunStore | None
    position: Position
    _step_under_way: int | None = None

    @property
    def _step(self) -> int:
        return self.position.step if self._step_under_way is None else self._step_under_way

    def picture(self, name: str, picture: Any) -> None:
        """Record a picture.

        Parameters
        ----------
        name : str
        picture : array, Matplotlib figure, or bytes of a PNG
            Of shape (height, width), or with 1, 3 or 4 channels last; uint8, or floats of which the
            range is spread over black to white.
        """
        if self.store is not None:
            self.store.picture(
                name, self._step, picture if isinstance(picture, bytes) else _png(name, picture)
            )

    def table(self, name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Record rows of a table; a DataFrame's are ``frame.to_dict("records")``."""
        if self.store is not None:
            self.store.table(name, self._step, rows)

    def text(self, name: str, text: str) -> None:
        """Record a text."""
        if self.store is not None:
            self.store.text(name, self._step, text)

    def array(self, name: str, array: np.ndarray) -> None:
        """Record an array, as ``.npy``."""
        if self.store is not None:
            content = BytesIO()
            np.save(content, array, allow_pickle=False)
            self.store.array(name, self._step, content.getvalue())

    def distribution(self, name: str, values: Any) -> None:
        """Record the histogram of finite values."""
        if self.store is None:
            return
        flat = np.asarray(values, dtype=np.float64).reshape(-1)
        flat = flat[np.isfinite(flat)]
        if flat.size:
            counts, edges = np.histogram(flat, BINS)
            self.store.distribution(name, self._step, edges.tolist(), counts.tolist())


def _png(name: str, picture: Any) -> bytes:
    from PIL import Image

    if hasattr(picture, "savefig"):
        from ...figures._style import as_png

        return as_png(picture)
    array = np.asarray(picture)
    if array.ndim == 3 and array.shape[2] == 1:
        array = array[:, :, 0]
    if (
        array.ndim not in (2, 3)
        or (array.ndim == 3 and array.shape[2] not in (3, 4))
        or array.dtype.kind not in "fiub"
        or not array.size
    ):
        raise RunError(
            f"{name}: a picture has shape (height, width) or (height, width, 1, 3 or 4), got "
            f"{array.dtype} of {array.shape}."
        )
    if array.dtype != np.uint8:
        values = np.where(np.isfinite(array), array, 0).astype(np.float64)
        low, high = float(values.min()), float(values.max())
        array = np.asarray(np.round((values - low) / ((high - low) or 1.0) * 255), np.uint8)
    image = Image.fromarray(array)
    times = -(-LEAST_WIDTH // image.width)
    if times > 1:
        image = image.resize((image.width * times, image.height * times), Image.Resampling.NEAREST)
    content = BytesIO()
    image.save(content, "PNG")
    return content.getvalue()
