"""What is there beside what is meant, and the change from the one to the other, in a dialect's own syntax."""
