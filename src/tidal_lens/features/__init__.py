"""Finding what matters in a flow: vortices, separation, shocks, recirculation, each with evidence."""
