"""PostgreSQL through SQLAlchemy: all SQL of the project lives in this package."""
