"""Types of arrays that the core passes around."""

import numpy as np
import numpy.typing as npt

#: Scores, weights and vectors.
Floats = npt.NDArray[np.float32]
#: Ids of passages, or keys of documents.
Ids = npt.NDArray[np.int64]
#: Indices into an array in memory.
Positions = npt.NDArray[np.int64]
#: Row numbers as segments store them.
Rows = npt.NDArray[np.int32]
#: Which rows to use.
Mask = npt.NDArray[np.bool_]
