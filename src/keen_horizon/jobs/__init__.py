"""Background work: a queue in the same PostgreSQL (`queue`), tasks (`tasks`) and their worker (`worker`)."""
