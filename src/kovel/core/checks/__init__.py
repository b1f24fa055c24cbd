"""What an editor should look at before it goes out: findings, offers, loudness of the mix. Imports the plan and the
story."""
