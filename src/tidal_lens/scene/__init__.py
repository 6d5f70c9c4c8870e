"""From geometry to pixels: cameras, palettes and the off-screen renderer. No Qt."""
