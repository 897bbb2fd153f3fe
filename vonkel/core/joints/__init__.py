"""The hierarchy of joints: turning, mirroring, keeping inside, and plans that fit themselves."""
