"""One hand-made controls widget for each kind of layer."""
