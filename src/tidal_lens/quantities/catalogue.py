"""The catalogue of derived quantities: what each is, where its definition comes from, and when it misleads.

Most are formulas of our own language; the few that are not point to what computes them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

Scale = Literal["even", "signed", "mach", "angle", "ink", "paper"]
# Palettes of what cards bring along, where its numbers mean light: ink on paper.
OWN_SCALES: dict[str, Scale] = {"shadowgraph": "paper", "shadow on a screen": "paper", "schlieren": "paper",
                                "schlieren, dark field": "paper", "direction of bending": "angle", "interferogram": "paper",
                                "attenuated light": "paper"}
# Those that are no values of places: what is seen through the whole flow.
THROUGH = frozenset(OWN_SCALES) | {f"{what} along the sight" for what in ("sum", "mean", "greatest", "least")}
Components = Literal[1, 3, 9]


@dataclass(frozen=True)
class Definition:
    """A derived quantity.

    Attributes
    ----------
    name : str
        Identifier in studies; in formulas with _ in place of -.
    title, symbol, unit : str
        On screen; the SI unit.
    group : str
        Purpose under which it is listed.
    formula : str
        In the formula language; empty for what has a computation of its own.
    told : str
        The formula as one writes it by hand.
    source : str
        Where the definition is published.
    sign : str
        What its sign means.
    misleads : str
        When not to trust it.
    scale : str
        ``signed`` about zero, ``mach`` about 1, ``angle`` round the circle, ``ink`` and ``paper`` dark above and below, or ``even``.
    components : int
        1, 3 or 9.
    needs : tuple of str
        What a computation of its own rests on: quantities, ``const:`` values, ``series``, ``plane flow`` or ``walls``.
    choices : tuple of str
        What of :class:`tidal_lens.quantities.methods.Methods` such a computation looks at.
    on_walls : bool
        Whether it is known on walls only.
    """

    name: str
    title: str
    symbol: str
    unit: str
    group: str
    formula: str
    told: str
    source: str = ""
    sign: str = ""
    misleads: str = ""
    scale: Scale = "even"
    components: Components = 1
    needs: tuple[str, ...] = ()
    choices: tuple[str, ...] = ()
    on_walls: bool = False


HIDDEN = "hidden"
VORTICES, SHOCKS, WALLS, ENERGY, MOTION, FRAMES, OPTICAL, PLACE = (
    "Vortices", "Shocks and compression", "Walls", "Pressure and energy", "Motion", "Rotating and cylindrical", "Schlieren and shadowgraph",
    "Place")

_HUNT = "Hunt, Wray & Moin 1988, CTR-S88"
_JEONG = "Jeong & Hussain 1995, J. Fluid Mech. 285"
_CHONG = "Chong, Perry & Cantwell 1990, Phys. Fluids A 2"
_ZHOU = "Zhou, Adrian, Balachandar & Kendall 1999, J. Fluid Mech. 387"
_LEVY = "Levy, Degani & Seginer 1990, AIAA J. 28"
_TRUESDELL = "Truesdell 1953, J. Rational Mech. Anal. 2"
_LIU = "Liu, Wang, Yang & Duan 2016, Sci. China Phys. Mech. Astron. 59"
_NACA = "NACA Report 1135 (1953)"
_LOVELY = "Lovely & Haimes 1999, AIAA 99-3285"
_DUCROS = "Ducros et al. 1999, J. Comput. Phys. 152"
_SETTLES = "Settles 2001, Schlieren and Shadowgraph Techniques"
_QUIRK = "Quirk & Karni 1996, J. Fluid Mech. 318"
_SCHLICHTING = "Schlichting, Boundary-Layer Theory"
_LAMB = "Lamb, Hydrodynamics"
_PRACTICE = "common practice, no source"
_SHEAR = "Positive in plane shear too: a boundary layer is not told from a vortex."
_GRID = "Noisy where the mesh is coarse: it rests on first derivatives."


def _axes(whole: Definition, of: str) -> tuple[Definition, ...]:
    """One entry for each component of a vector ``of``."""
    return tuple(replace(whole, name=f"{whole.name}-{a}", title=f"{whole.title} {a}", symbol=f"{whole.symbol}{a}", formula=f"{of}.{a}",
                         told=whole.told.format(a=a), scale="signed") for a in "xyz")


CATALOGUE: tuple[Definition, ...] = (
    Definition("place-x", "Place x", "x", "m", PLACE, "x", "x coordinate"),
    Definition("place-y", "Place y", "y", "m", PLACE, "y", "y coordinate"),
    Definition("place-z", "Place z", "z", "m", PLACE, "z", "z coordinate"),
    Definition("speed", "Speed", "|u|", "m/s", MOTION, "length(velocity)", "√(u² + v² + w²)"),
    Definition("velocity-x", "Velocity x", "u", "m/s", MOTION, "velocity.x", "x component of the velocity", scale="signed"),
    Definition("velocity-y", "Velocity y", "v", "m/s", MOTION, "velocity.y", "y component of the velocity", scale="signed"),
    Definition("velocity-z", "Velocity z", "w", "m/s", MOTION, "velocity.z", "z component of the velocity", scale="signed"),
    Definition("divergence", "Divergence", "∇·u", "1/s", MOTION, "trace(grad(velocity))", "∂u/∂x + ∂v/∂y + ∂w/∂z", "",
               "negative where the flow is compressed", _GRID, "signed"),
    Definition("strain-rate", "Strain rate", "γ̇", "1/s", MOTION,
               "sqrt(2 * inner(symmetric(grad(velocity)), symmetric(grad(velocity))))",
               "√(2 S:S), S the symmetric part of ∇u", _SCHLICHTING),
    Definition("convective-acceleration", "Convective acceleration", "(u·∇)u", "m/s²", MOTION,
               "dot(grad(velocity), velocity)", "u·∇u; the vector",
               components=3),
    Definition("acceleration", "Acceleration", "a", "m/s²", MOTION, "length(rate(velocity) + dot(grad(velocity), velocity))",
               "|∂u/∂t + u·∇u|",
               misleads="The part in time is only as good as the steps are close."),
    Definition("lamb-vector", "Lamb vector", "ω × u", "m/s²", MOTION, "cross(curl(velocity), velocity)",
               "vorticity × velocity; the vector", _LAMB,
               components=3),
    Definition("lamb-magnitude", "Lamb vector magnitude", "|ω × u|", "m/s²", MOTION, "length(lamb_vector)", "|ω × u|", _LAMB,
               misleads="Zero in a vortex whose vorticity runs along the flow."),
    Definition("pressure-rate", "Pressure rate", "∂p/∂t", "Pa/s", MOTION, "rate(pressure)", "∂p/∂t", scale="signed",
               sign="positive where the pressure rises", misleads="Only as good as the steps are close."),
    Definition("pressure-rate-moving", "Pressure rate along the path", "Dp/Dt", "Pa/s", MOTION,
               "rate(pressure) + dot(velocity, grad(pressure))",
               "∂p/∂t + u·∇p", scale="signed", sign="positive where particles are compressed"),
    Definition("stream-function", "Stream function", "ψ", "m²/s", MOTION, "", "u = ∂ψ/∂y, v = −∂ψ/∂x in a plane flow", _LAMB,
               "grows to the left of the flow", "Of a plane flow that is free of divergence; else a best fit.", "signed",
               needs=("velocity", "plane flow")),
    Definition("stokes-stream-function", "Stokes stream function", "Ψ", "m³/s", MOTION, "",
               "ux = (1/r) ∂Ψ/∂r, ur = −(1/r) ∂Ψ/∂x about the chosen axis", _LAMB, "",
               "Of a plane flow that is half of an axisymmetric one, about an axis in its plane.", "signed",
               needs=("velocity", "plane flow", "const:axis", "const:axis_point")),
    Definition("mass-stream-function", "Mass stream function", "ψm", "kg/(m s)", MOTION, "",
               "ρu = ∂ψ/∂y, ρv = −∂ψ/∂x in a plane flow", _LAMB,
               "grows to the left of the flow; the difference of two values is the mass flow between them, by unit depth",
               "Of a plane flow that is steady; else a best fit.", "signed", needs=("velocity", "density", "plane flow")),
    Definition("mass-stokes-stream-function", "Mass Stokes stream function", "Ψm", "kg/s", MOTION, "",
               "ρux = (1/r) ∂Ψ/∂r, ρur = −(1/r) ∂Ψ/∂x", _LAMB, "2π times the difference of two values is the mass flow between them",
               "Of a plane flow that is half of an axisymmetric one, about an axis in its plane.", "signed",
               needs=("velocity", "density", "plane flow", "const:axis", "const:axis_point")),

    Definition("vorticity", "Vorticity", "ω", "1/s", VORTICES, "", "∇ × u; the vector", _LAMB, "right-handed", _SHEAR, components=3,
               needs=("velocity",)),
    Definition("vorticity-magnitude", "Vorticity magnitude", "|ω|", "1/s", VORTICES, "length(vorticity)", "|∇ × u|", _LAMB, "", _SHEAR),
    *_axes(Definition("vorticity", "Vorticity", "ω", "1/s", VORTICES, "", "{a} component of ∇ × u", "", "right-handed", _SHEAR),
           "vorticity"),
    Definition("q", "Q", "Q", "1/s²", VORTICES, "", "½[(tr ∇u)² − tr(∇u²)]; ½(‖Ω‖² − ‖S‖²) without divergence", _HUNT,
               "positive where turning outweighs straining", "Its level depends on the flow: a value of one case is none of another.",
               "signed", needs=("velocity",)),
    Definition("lambda2", "Lambda 2", "λ₂", "1/s²", VORTICES, "", "middle eigenvalue of S² + Ω²", _JEONG,
               "negative in vortices", "Derived for incompressible flow; at shocks it means nothing.", "signed", needs=("velocity",)),
    Definition("delta", "Delta", "Δ", "1/s⁶", VORTICES, "", "(Q̃/3)³ + (R̃/2)² of ∇u without its trace", _CHONG,
               "positive where two eigenvalues are complex", "Shows weak turning as readily as strong vortices.", "signed",
               needs=("velocity",)),
    Definition("swirling-strength", "Swirling strength", "λci", "1/s", VORTICES, "",
               "imaginary part of the complex eigenvalues of ∇u; 0 where all are real", _ZHOU, "", _GRID, needs=("velocity",)),
    Definition("swirl-axis", "Swirl axis", "e", "", VORTICES, "", "real eigenvector of ∇u where the others are complex; the vector", _ZHOU,
               "on the side of the vorticity", "Zero where nothing swirls.", components=3, needs=("velocity",)),
    Definition("helicity", "Helicity", "h", "m/s²", VORTICES, "dot(velocity, curl(velocity))", "u · ω", _LEVY,
               "positive where the flow turns right-handed about its own direction", "Changes with the frame of reference.", "signed"),
    Definition("normalised-helicity", "Normalised helicity", "Hn", "", VORTICES,
               "dot(velocity, curl(velocity)) / (length(velocity) * length(curl(velocity)))",
               "u · ω / (|u| |ω|), the cosine of the angle between them", _LEVY, "changes sign from a vortex to the one beside it",
               "Near ±1 in any weak flow along its vorticity; look at it where the vorticity is large.", "signed"),
    Definition("kinematic-vorticity-number", "Kinematic vorticity number", "Wk", "", VORTICES,
               "length(antisymmetric(grad(velocity))) / length(symmetric(grad(velocity)))",
               "‖Ω‖ / ‖S‖", _TRUESDELL, "1 in plane shear, more in vortices",
               "Without bounds in solid rotation; says nothing of strength."),
    Definition("rotation-share", "Rotation share", "ΩR", "", VORTICES,
               "inner(antisymmetric(grad(velocity)), antisymmetric(grad(velocity))) /"
               " (inner(symmetric(grad(velocity)), symmetric(grad(velocity))) +"
               " inner(antisymmetric(grad(velocity)), antisymmetric(grad(velocity))) + 0.001 *"
               " greatest(inner(antisymmetric(grad(velocity)), antisymmetric(grad(velocity))) -"
               " inner(symmetric(grad(velocity)), symmetric(grad(velocity)))))",
               "‖Ω‖² / (‖S‖² + ‖Ω‖² + ε), ε a thousandth of the greatest ‖Ω‖² − ‖S‖²", _LIU, "above 0.52 in vortices",
               "ε decides what counts as nothing."),

    Definition("normal-mach", "Normal Mach number", "Mn", "", SHOCKS,
               "dot(velocity, grad(pressure)) / (length(grad(pressure)) * sqrt(gamma * pressure / density))",
               "u · ∇p / (a |∇p|)", _LOVELY, "1 at shocks that the flow goes through; negative in expansions",
               "Large in smooth compressions too: ask for a steep pressure gradient besides.", "mach"),
    Definition("compression-sensor", "Compression sensor", "Θ", "", SHOCKS,
               "where(div(velocity) < 0, div(velocity)**2 / (div(velocity)**2 + dot(curl(velocity),"
               " curl(velocity)) + 1e-12 * greatest(div(velocity)**2)), 0)",
               "(∇·u)² / [(∇·u)² + ω² + ε] where ∇·u < 0, else 0", _DUCROS, "near 1 in shocks, near 0 in boundary layers and vortices",
               "Weak sound in a still region looks like a shock."),
    Definition("pressure-gradient", "Pressure gradient", "|∇p|", "Pa/m", SHOCKS, "length(grad(pressure))", "|∇p|", "", "", _GRID),

    Definition("mach", "Mach number", "M", "", ENERGY, "length(velocity) / sqrt(gamma * pressure / density)", "|u| / √(γ p / ρ)", _NACA,
               scale="mach"),
    Definition("sound-speed", "Speed of sound", "a", "m/s", ENERGY, "sqrt(gamma * pressure / density)", "√(γ p / ρ)", _NACA),
    Definition("cp", "Pressure coefficient", "Cp", "", ENERGY,
               "(pressure - free_stream_pressure) / free_stream_dynamic_pressure", "(p − p∞) / (½ ρ∞ U∞²)", _PRACTICE,
               "negative in suction", "In compressible flow it exceeds 1 at a stagnation point.", "signed"),
    Definition("dynamic-pressure", "Dynamic pressure", "q", "Pa", ENERGY, "0.5 * density * dot(velocity, velocity)", "½ ρ |u|²", _PRACTICE),
    Definition("total-pressure", "Total pressure", "p₀", "Pa", ENERGY,
               "pressure * (1 + (gamma - 1) / 2 * mach_number**2) ** (gamma / (gamma - 1))", "p [1 + ½(γ−1) M²]^(γ/(γ−1))", _NACA,
               "", "That of an isentropic stop: a probe in supersonic flow reads the pitot pressure."),
    Definition("pitot-pressure", "Pitot pressure", "p₀₂", "Pa", ENERGY,
               "where(mach_number > 1, pressure * ((gamma + 1) / 2 * max(mach_number, 1)**2) ** (gamma /"
               " (gamma - 1)) * ((gamma + 1) / (2 * gamma * max(mach_number, 1)**2 - (gamma - 1))) ** (1 /"
               " (gamma - 1)), total_pressure)",
               "total pressure; behind a normal shock where M > 1 (Rayleigh)", _NACA),
    Definition("total-pressure-loss", "Total-pressure loss", "ζ", "", ENERGY,
               "(free_stream_total_pressure - total_pressure) / free_stream_dynamic_pressure",
               "(p₀∞ − p₀) / (½ ρ∞ U∞²)", _PRACTICE, "positive where total pressure was lost",
               "Small losses drown in the errors of the interpolated Mach number.", "signed"),
    Definition("total-pressure-coefficient", "Total-pressure coefficient", "Cp₀", "", ENERGY,
               "(total_pressure - free_stream_pressure) / free_stream_dynamic_pressure",
               "(p₀ − p∞) / (½ ρ∞ U∞²)", _PRACTICE, "1 in undisturbed incompressible flow"),
    Definition("bernoulli-pressure", "Total pressure, constant ρ", "pB", "Pa", ENERGY,
               "pressure + 0.5 * density * dot(velocity, velocity)", "p + ½ ρ |u|²",
               _LAMB, "", "Of incompressible flow; in a compressible one it is less than the total pressure. Not of a pressure that was "
               "divided by density."),
    Definition("bernoulli-coefficient", "Cp of total pressure, constant ρ", "CpB", "", ENERGY,
               "(pressure + 0.5 * density * dot(velocity, velocity) - free_stream_pressure) /"
               " free_stream_dynamic_pressure", "(p + ½ ρ |u|² − p∞) / (½ ρ∞ U∞²)", _LAMB,
               "1 in the free stream, less where losses have passed", "Of incompressible flow."),
    Definition("static-temperature", "Temperature", "T", "K", ENERGY, "temperature", "from the file, else p / (ρ R)", _NACA),
    Definition("total-temperature", "Total temperature", "T₀", "K", ENERGY,
               "temperature * (1 + (gamma - 1) / 2 * mach_number**2)",
               "T [1 + ½(γ−1) M²]", _NACA),
    Definition("heat-conductivity", "Heat conductivity", "k", "W/(m K)", ENERGY,
               "viscosity * gamma * gas_constant / ((gamma - 1) * prandtl_number)", "μ cp / Pr", _SCHLICHTING, "",
               "Perfect gas; the Prandtl number is that of the reference state."),
    Definition("entropy-rise", "Entropy rise", "Δs", "J/(kg K)", ENERGY,
               "gas_constant / (gamma - 1) * log(pressure / free_stream_pressure * (free_stream_density /"
               " density)**gamma)",
               "cv ln[(p/p∞) (ρ∞/ρ)^γ]", _NACA, "positive behind shocks and in boundary layers",
               "Negative values are errors of the solution or of the reference state.", "signed"),
    Definition("enthalpy", "Enthalpy", "h", "J/kg", ENERGY, "gamma / (gamma - 1) * pressure / density", "γ/(γ−1) p/ρ", _NACA),
    Definition("total-enthalpy", "Total enthalpy", "h₀", "J/kg", ENERGY, "enthalpy + 0.5 * dot(velocity, velocity)", "h + ½|u|²", _NACA),
    Definition("mass-flux", "Mass flux", "ρu", "kg/(m² s)", ENERGY, "density * velocity", "ρ u; the vector", components=3),
    Definition("mass-flux-magnitude", "Mass flux magnitude", "ρ|u|", "kg/(m² s)", ENERGY, "density * length(velocity)", "ρ |u|"),

    Definition("density-gradient-magnitude", "Density gradient", "|∇ρ|", "kg/m⁴", OPTICAL, "length(grad(density))",
               "|∇ρ|, as schlieren pictures show it", _SETTLES, "", "A picture through the flow adds up along the line of sight.", "ink"),
    *_axes(Definition("density-gradient", "Density gradient", "∂ρ/∂", "kg/m⁴", OPTICAL, "", "∂ρ/∂{a}: a knife edge across {a}", _SETTLES),
           "grad(density)"),
    Definition("knife-edge", "Knife edge", "∂ρ/∂k", "kg/m⁴", OPTICAL, "dot(grad(density), knife)", "∇ρ along the chosen direction k",
               _SETTLES,
               "positive where density rises along it", "", "signed"),
    Definition("schlieren-shading", "Schlieren shading", "S", "", OPTICAL,
               "exp(-shading * length(grad(density)) / greatest(length(grad(density))))",
               "exp(−c |∇ρ| / max |∇ρ|)", _QUIRK, "1 where nothing changes, dark at shocks",
               "One steep place, such as a leading edge, pales all others: raise c.", "paper"),
    Definition("density-laplacian", "Laplacian of density", "∇²ρ", "kg/m⁵", OPTICAL, "laplacian(density)", "∇·∇ρ, as in shadowgraphs",
               _SETTLES,
               "positive before a shock, negative behind its middle", "Second derivatives show the mesh: smooth it, or trust it less.",
               "signed"),

    Definition("turning-rate", "Rate of rotation", "Ω", "1/s", FRAMES, "", "of the frame that a block turns in", _PRACTICE,
               "positive in the right-handed sense about the axis", "0 in blocks that stand.",
               needs=("const:spin",), choices=("turning", "frames")),
    Definition("frame-velocity", "Frame velocity", "Ω × r", "m/s", FRAMES, "", "of the frame that a block turns in; the vector", _PRACTICE,
               "", "0 in blocks that stand.", components=3, needs=("velocity", "const:spin", "const:axis", "const:axis_point"),
               choices=("turning", "frames")),
    Definition("relative-velocity", "Relative velocity", "w", "m/s", FRAMES,
               "velocity - frame_velocity",
               "u − Ω × r; the vector", _PRACTICE, components=3),
    Definition("relative-speed", "Relative speed", "|w|", "m/s", FRAMES, "length(relative_velocity)", "|u − Ω × r|", _PRACTICE),
    Definition("relative-mach", "Relative Mach number", "Mw", "", FRAMES, "relative_speed / speed_of_sound", "|w| / a", _PRACTICE,
               scale="mach"),
    Definition("radius", "Radius", "r", "m", FRAMES, "length(cross(axis, vector(x, y, z) - axis_point))", "distance from the axis"),
    Definition("velocity-axial", "Axial velocity", "ua", "m/s", FRAMES, "dot(velocity, axis)", "u · e", scale="signed",
               sign="positive along the axis"),
    Definition("velocity-radial", "Radial velocity", "ur", "m/s", FRAMES,
               "dot(velocity, unit(cross(cross(axis, vector(x, y, z) - axis_point), axis)))", "u · e_r", scale="signed",
               sign="positive away from the axis", misleads="Not defined on the axis itself."),
    Definition("velocity-tangential", "Tangential velocity", "ut", "m/s", FRAMES,
               "dot(velocity, unit(cross(axis, vector(x, y, z) - axis_point)))", "u · e_θ", scale="signed",
               sign="positive in the right-handed sense about the axis", misleads="Not defined on the axis itself."),
    Definition("velocity-meridional", "Meridional velocity", "um", "m/s", FRAMES, "sqrt(axial_velocity**2 + radial_velocity**2)",
               "√(ua² + ur²)", _PRACTICE),
    Definition("angular-momentum", "Angular momentum", "r ut", "m²/s", FRAMES, "radius * tangential_velocity", "r u · e_θ", _PRACTICE,
               "positive in the right-handed sense about the axis", "", "signed"),
    Definition("relative-flow-angle", "Relative flow angle", "β", "rad", FRAMES,
               "atan2(tangential_velocity - dot(frame_velocity, unit(cross(axis, vector(x, y, z) - axis_point))), meridional_velocity)",
               "angle between the relative velocity and the meridional plane", _PRACTICE,
               "positive in the right-handed sense about the axis", scale="angle"),
    Definition("relative-total-pressure", "Relative total pressure", "p₀w", "Pa", FRAMES,
               "pressure * (1 + (gamma - 1) / 2 * relative_mach_number**2)**(gamma / (gamma - 1))",
               "p (1 + (γ−1)/2 Mw²)^(γ/(γ−1))", _NACA),
    Definition("relative-total-temperature", "Relative total temperature", "T₀w", "K", FRAMES,
               "temperature * (1 + (gamma - 1) / 2 * relative_mach_number**2)",
               "T (1 + (γ−1)/2 Mw²)", _NACA),
    Definition("rothalpy", "Rothalpy", "I", "J/kg", FRAMES, "enthalpy + 0.5 * dot(relative_velocity, relative_velocity) - "
               "0.5 * dot(frame_velocity, frame_velocity)", "h + ½|w|² − ½(Ω r)²", _PRACTICE, "",
               "Constant along lines of the relative velocity in steady relative flow without friction and heat."),
    Definition("span-share", "Share of span", "η", "", FRAMES, "", "0 at the hub, 1 at the casing", _PRACTICE, "",
               "Along lines that join equal shares of the lengths of hub and casing: boundaries have to be said to be these.",
               needs=("hub and casing", "const:axis", "const:axis_point")),
    Definition("flow-angle", "Swirl angle", "α", "rad", FRAMES, "atan2(tangential_velocity, axial_velocity)",
               "angle between the tangential and the axial velocity", _PRACTICE, scale="angle"),

    Definition("wall-shear", "Wall shear stress", "τw", "Pa", WALLS, "", "μ ∂u/∂n along the wall; the vector", _SCHLICHTING,
               "along the flow at the wall", "Needs several cells in the boundary layer: look at y+.", components=3,
               needs=("velocity", "viscosity", "walls"), on_walls=True),
    Definition("wall-shear-magnitude", "Wall shear stress magnitude", "|τw|", "Pa", WALLS, "length(wall_shear_stress)", "|τw|",
               _SCHLICHTING,
               on_walls=True),
    Definition("skin-friction", "Skin-friction coefficient", "cf", "", WALLS,
               "length(wall_shear_stress) / free_stream_dynamic_pressure", "|τw| / (½ ρ∞ U∞²)", _SCHLICHTING,
               on_walls=True),
    Definition("friction-velocity", "Friction velocity", "uτ", "m/s", WALLS, "sqrt(length(wall_shear_stress) / density)", "√(|τw| / ρ)",
               _SCHLICHTING,
               on_walls=True),
    Definition("y-plus", "y+", "y⁺", "", WALLS,
               "density * sqrt(length(wall_shear_stress) / density) * height_of_the_first_node / viscosity",
               "ρ uτ y₁ / μ, y₁ the height of the first node off the wall", _SCHLICHTING, "",
               "Of the nodes that the file holds; a solver that keeps values in cells has them half as high.", on_walls=True),
    Definition("first-height", "Height of the first node", "y₁", "m", WALLS, "",
               "distance of the nearest node off the wall, along its normal", _PRACTICE, needs=("walls",), on_walls=True),
    Definition("heat-flux", "Wall heat flux", "qw", "W/m²", WALLS,
               "viscosity * gamma * gas_constant / ((gamma - 1) * prandtl_number) * wall_rise",
               "k ∂T/∂n, k = μ cp / Pr", _SCHLICHTING, "positive into the wall",
               "Perfect gas; the Prandtl number is that of the reference state.",
               "signed", on_walls=True),
    Definition("wall-normal", "Wall normal", "n", "", WALLS, "", "unit normal of walls, into the flow; the vector", components=3,
               needs=("walls",), on_walls=True),
    Definition("wall-distance", "Wall distance", "d", "m", WALLS, "", "distance to the nearest point of the walls' faces", _PRACTICE,
               "", "Exact to the flat triangles of the walls.", needs=("walls",)),

    # Steps on the way that are kept, but not offered.
    Definition("velocity-gradient", "", "", "1/s", HIDDEN, "", "∂u_i/∂x_j", components=9, needs=("velocity",)),
    Definition("wall-rise", "", "", "K/m", HIDDEN, "", "∂T/∂n at walls", needs=("temperature", "walls"), on_walls=True),
)
BY_NAME = {d.name: d for d in CATALOGUE}
