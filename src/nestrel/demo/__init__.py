"""What ships for trying Nestrel out: a scenario's data, a stand-in identity issuer."""
