"""What Qt paints over the picture: colour keys, the rose and the handles."""
