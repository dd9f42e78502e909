"""What was measured of a take becomes findings, each with its evidence and, where there is one, an answer."""
