"""Results as they are shown: on the screen, and as pages (`html`)."""
