"""Linear skin that comes near what was judged: joints between others, weights solved for the poses, targets for the rest."""
