"""From a session and its sounds to sound: the graph of paths, its incremental rendering, the stream of a print."""
