"""Questions that documents answer, proposed for people to approve."""
