"""What is seen and heard at every frame and sample, flattened from the story. Imports the story and what it stands
on."""
