"""How air bends the measure: the group refractivity of light and the first velocity correction of distances.

Formulas of IAG resolution 3 of 1999 (Birmingham; J. M. Rüeger), from memory: the dispersion formula of
standard air, the closed formula for ambient air. Good to about 0.25 ppm between 0.65 and 1 micrometre. The
tests check them against the formulas of P. E. Ciddor, Applied Optics 35 (1996).
"""

from __future__ import annotations

import math

from fenwind.errors import ProcedureError

#: Wavelength of a carrier of today's instruments, micrometres (common practice, no source).
CARRIER_UM = 0.658
#: Refractivity of that carrier in air of 12 degrees C, 1013.25 hPa and 60 % of humidity, ppm: where such
#: instruments need no correction (common practice, no source).
REFERENCE_PPM = 286.34
ZERO_K = 273.15
STANDARD_HPA = 1013.25


def refractivity(
    temperature_c: float, pressure_hpa: float, humidity_percent: float = 0.0, carrier_um: float = CARRIER_UM
) -> float:
    """Group refractivity (n - 1) of air in ppm. Raises ProcedureError for air that there is not."""
    _check(temperature_c, pressure_hpa, humidity_percent, carrier_um)
    group = 287.6155 + 4.88660 / carrier_um**2 + 0.06800 / carrier_um**4
    kelvin = temperature_c + ZERO_K
    dry = ZERO_K / STANDARD_HPA * group * pressure_hpa / kelvin
    return dry - 11.27 * vapour_pressure(temperature_c, humidity_percent) / kelvin


def vapour_pressure(temperature_c: float, humidity_percent: float) -> float:
    """Partial pressure of water vapour in hPa over water (Magnus)."""
    return humidity_percent / 100.0 * 6.1078 * math.pow(10.0, 7.5 * temperature_c / (temperature_c + 237.3))


def velocity_ppm(reference: float, refractivity_ppm: float) -> float:
    """First velocity correction, in ppm of a distance that an instrument shows for air of its reference
    refractivity: (n_ref - n) / n, added to the distance."""
    return (reference - refractivity_ppm) / (1.0 + refractivity_ppm * 1e-6)


def _check(temperature: float, pressure: float, humidity: float, carrier: float) -> None:
    for value, low, high, what, unit in (
        (temperature, -60.0, 60.0, "temperature", "degrees C"), (pressure, 300.0, 1100.0, "pressure", "hPa"),
        (humidity, 0.0, 100.0, "humidity", "%"), (carrier, 0.4, 1.6, "carrier", "micrometres"),
    ):  # fmt: skip
        if not (math.isfinite(value) and low <= value <= high):
            raise ProcedureError(
                f"a {what} of {value:g} {unit} is none of air",
                hint=f"Give {low:g} to {high:g} {unit}",
            )
