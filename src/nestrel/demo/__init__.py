"""What ships for trying Nestrel out: a local PostgreSQL, a scenario's data, a stand-in identity issuer."""
