"""Plans, drafts and sign-in links in MariaDB, through SQLAlchemy."""
