"""One module a kind of stage: its settings and its processor. A new module here is a new kind."""
