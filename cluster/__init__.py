"""Nestrel on three machines, on this one: etcd, PostgreSQL under Patroni, HAProxy, PgBouncer, Redis with Sentinel and
three services, from the files in `deploy/`. Each machine is an address of its own on loopback."""
