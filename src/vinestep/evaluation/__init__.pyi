from ._paired import PairedDifference as PairedDifference, paired_bootstrap as paired_bootstrap
from ._scores import Assessment as Assessment, assess as assess
