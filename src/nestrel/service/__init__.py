"""HTTP and WebSocket: turns requests into calls on the store and answers into JSON."""
