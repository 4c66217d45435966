"""Clients, service nodes and a network on one clock that no real time moves: a seed gives a whole history of faults."""
