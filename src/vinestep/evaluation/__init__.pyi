from ._scores import Assessment as Assessment, assess as assess
