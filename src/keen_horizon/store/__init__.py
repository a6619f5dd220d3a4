"""What is kept: rows in PostgreSQL (`models`), files beside it (`files`), and the project's own server."""
