"""The live page: runs watched, questioned and stopped in a browser. Needs ``pip install
'vinestep[page]'``.
"""

from .app import make_app
from .serving import serve

__all__ = ["make_app", "serve"]
