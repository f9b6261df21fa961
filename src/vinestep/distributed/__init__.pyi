from ._communicator import Alone as Alone, Communicator as Communicator
from ._current import communicator as communicator, using as using
from ._parts import part_of as part_of
from ._settings import Ranks as Ranks
from ._threads import run_in_threads as run_in_threads
