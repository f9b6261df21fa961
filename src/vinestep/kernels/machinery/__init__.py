"""How loops are compiled, called and run in parallel. To write a loop none of this has to be read:
see `loops`.

A loop is a Python function over arrays that Numba translates to machine code (`compilation`), at
its first call for arrays of a kind, and keeps on disk. What is peculiar here, and where:

- `symbol_calls`: one compiled function calls another by its symbol, as C code does, rather than
  with a copy of it compiled into the caller. Twenty functions that use the matrix product compile
  it once. Whoever is loaded from the cache loads those that it calls first.
- `job_distribution` and `pool`: a parallel loop divides its work into parts, which the calling
  thread and the waiting threads of one pool take from an array of atomic counters (`counters`) in
  turn. That takes about a microsecond, and no interpreter lock. `grain_sizes` says how work is
  divided: by its size and the number of threads only, so that sums come out the same each time.
- `array_access`: views and new arrays in a few instructions, where Numba's own are compiled anew
  for each function that uses them.
- `llvm_ir` and `vector_ir`: vector instructions one by one, for inner loops that the compiler does
  not vectorise well.
- `blas_threads`: the matrix library keeps to one thread while a run lasts, so that its threads and
  those of the pool do not compete.
- `numba_internals`: the only file with names of Numba that are not documented. `availability` finds
  out whether they are there and do what is expected; otherwise no loop runs, and the definitions of
  the operations, in NumPy, run in their place.
"""
