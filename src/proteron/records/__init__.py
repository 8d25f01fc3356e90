"""Records: everything that is stored, on PostgreSQL through SQLAlchemy."""
