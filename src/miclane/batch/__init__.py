"""Many files through one chain: on the cores of this machine, or on a cluster; resumed where it was interrupted."""
