"""Stand-ins for rented services: real HTTP on loopback, with limits and faults on purpose."""
