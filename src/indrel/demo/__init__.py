"""The demonstration site: a trust that runs mountain huts, with the mistakes that real sites have."""
