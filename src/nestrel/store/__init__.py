"""PostgreSQL: all SQL of the project lives in this package. Connections and migrations are SQLAlchemy's."""
