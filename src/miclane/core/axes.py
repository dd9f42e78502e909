"""Frequency axes that measures, stages and pictures share."""

import numpy as np

AXIS_HZ = np.geomspace(20, 20000, 361)
