"""The computation: no Django, no HTTP, no screens."""

import os as _os

# Numba's OpenMP layer may be called from several threads of a server at once; its default one may not.
_os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")
