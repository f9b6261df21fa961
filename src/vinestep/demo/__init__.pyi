from ._barrels import barrels as barrels
from ._casks import casks as casks
from ._chalk import Chalk as Chalk, chalk as chalk
from ._ferments import Ferments as Ferments, ferment_course as ferment_course, ferments as ferments
from ._harvest import harvest as harvest
from ._leaves import (
    LeafSpots as LeafSpots,
    Leaves as Leaves,
    leaf_spots as leaf_spots,
    leaves as leaves,
)
from ._notes import Notes as Notes, notes as notes
from ._parcels import parcels as parcels
from ._shorthand import Shorthand as Shorthand, compressed as compressed, shorthand as shorthand
