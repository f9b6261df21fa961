"""Settings found by trying: a range of rates, a size of batches, searches over plans."""
