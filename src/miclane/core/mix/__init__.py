"""The session document: what it holds, how it is edited, how chains are read and written."""
