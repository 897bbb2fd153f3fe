"""Points, faces and volumes: what any body has, rigged or not."""
