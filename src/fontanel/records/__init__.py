"""Records: tables, migrations, the blob store, the vector cache, and queries scoped by team."""
