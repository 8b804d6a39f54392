"""What a flow came to, as one value that reports, the window and the command line read.

`analysed` makes it; it is plain data, apart from the rows without a partner, which stay where they are.
"""

from keen_trellis.flow.analysis.making import Analysed, Circumstances, analysed
from keen_trellis.flow.analysis.value import Analysis

__all__ = ["Analysed", "Analysis", "Circumstances", "analysed"]
