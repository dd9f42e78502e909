"""The passes of the work on a vocal in their order, and where each stands: measured after every stage, never ticked."""
