"""Records: tables, migrations, blobs, vector cache, team scope."""
