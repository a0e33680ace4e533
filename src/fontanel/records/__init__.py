"""Records: tables, migrations, blobs, the vector cache, and queries scoped by team."""
