"""What a body in any pose shows: its tips, the distances between them, which limb each is, and where its joints lie."""
