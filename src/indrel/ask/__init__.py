"""Questions put to a snapshot, one module a question: each gives an answer that both the commands and the library show."""
