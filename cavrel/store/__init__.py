"""PostgreSQL: plain SQL through psycopg. See README.md."""
