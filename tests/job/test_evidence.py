"""What a derivation must take from the records: each is changed alone, and the result has to follow."""

import math
from dataclasses import replace

import numpy as np

from fenwind.geodesy.frames import FrameSpec, HeightReference
from fenwind.job.job import Job
from fenwind.records.centres import Centre
from fenwind.records.entries import Add, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep, ObservationSet
from fenwind.records.records import (
    KINDS,
    Acceptance,
    Backdrop,
    FitStep,
    FrameRecord,
    GivenPosition,
    JobInfo,
    Layout,
    Mark,
    MarkRule,
    MeasuredPosition,
    PositionChoice,
    Record,
    TwoFigures,
)  # fmt: skip
from fenwind.records.sessions import Antenna, BaseSetup, Equipment, Occupation
from fenwind.records.setups import Air, Setup
from fenwind.records.space_fits import SpaceFit
from fenwind.records.tools import InstrumentModel, TapedDistance
from fenwind.records.velocities import MarkVelocity
from tests.support import TempFolder

#: One record of each kind with no field at its default.
EVERY_KIND: tuple[Record, ...] = (
    JobInfo(id="job", name="Näme \u2028", frame="f", angle_style="degrees", decimals=3, active=False),
    FrameRecord(
        id="f",
        spec=FrameSpec(
            name="F", crs="EPSG:2222",
            height=HeightReference(kind="vertical", grid="g.gtx", name="N", crs="EPSG:5941"), unit="ft",
            axis_order="NE", epoch_year=2010.123456789,
        ),
        active=False,
    ),
    Mark(
        id="m", name="M", mark_class="c", code="k", description="d", monument="b", hold_horizontal=False,
        hold_height=False, active=False,
    ),
    GivenPosition(
        id="g", mark="m", frame="f", e_m=1 / 3, n_m=-2 / 3, height_m=1e-7, sigma_h_m=0.1, sigma_v_m=0.2,
        source="s", active=False,
    ),
    MeasuredPosition(
        id="o", mark="m", lat_rad=1.1, lon_rad=-0.1, h_m=3.3, crs="EPSG:4937", epoch_year=2026.5,
        sigma_h_m=0.01, sigma_v_m=0.02, session="day 1", source="rover", active=False,
    ),
    FitStep(
        id="fit", name="Fit", source_frame="f", target_frame="f2", horizontal="pivot", height="plane",
        pivot=("m", "q"), rotation_rad=0.3, scale=1.00001, scale_reason="ground", sessions=("day 1", "day 2"),
        uses=(("m", "check"), ("q", "off")), tolerance_h_m=0.003, tolerance_v_m=0.004, active=False,
    ),
    MarkRule(
        id="r", by="code", value="BB", tolerance_h_m=0.001, tolerance_v_m=0.002, symbol="cross", label=False,
        active=False,
    ),
    Layout(id="l", name="own", columns=("name", "e"), delimiter=";", decimals=2, active=False),
    Backdrop(id="b", path="/a b.dxf", frame="f", hidden_layers=("0", "x"), active=False),
    TwoFigures(
        id="two", mark="m", first="10.00", second="10.01", dh="-0.5", line="tape", active=False
    ),
    Acceptance(id="a", doubt="rule|subject|M", reason="seen", value=-1.25, active=False),
    Antenna(
        id="an", model="M", radius_m=0.1, rim_offset_m=0.02, mount_offset_m=0.03, arp_to_l1_m=0.06,
        active=False,
    ),
    BaseSetup(
        id="ba", name="D1", antenna="M", height_m=1.5, method="slant", started="2026-05-01T08:00:00+00:00",
        word="tie", mark="m", average_lat_rad=1.1, average_lon_rad=-0.1, average_h_m=1 / 3,
        average_sigma_h_m=0.3, average_sigma_v_m=0.5, average_epochs=7, place_lat_rad=1.2,
        place_lon_rad=-0.2, place_h_m=4.4, place_sigma_h_m=0.01, place_sigma_v_m=0.02,
        broadcast_x_m=1e6 / 3, broadcast_y_m=-2e6 / 3, broadcast_z_m=6e6 / 7, read_back=True,
        message_set="msm", active=False,
    ),
    Occupation(
        id="oc", mark="m", base="ba", started="a", ended="b", epochs=9, antenna="M", height_m=2.0,
        method="mount", dx_m=1 / 3, dy_m=-2 / 3, dz_m=5.0, cee_m2=1e-6, cen_m2=2e-7, ceu_m2=-1e-7,
        cnn_m2=2e-6, cnu_m2=3e-7, cuu_m2=4e-6, solution="fixed", pdop=1.1, age_s=0.9, spread_e_m=0.001,
        spread_n_m=0.002, spread_u_m=0.003, effective=2.2, step_m=0.001, message_set="legacy",
        moved_m=0.1, off_m=0.2, check=True, finished=False, active=False,
    ),
    ObservationSet(
        id="os", name="n", source="s", line=(2, 3), kind=("angle", "vector"), at=("m", "a"), to=("a", "b"),
        back=("b", ""), setup=("1", ""), group=("g", "h"), hi_m=(1.5, 0.0), ht_m=(1 / 3, 0.0),
        value=((0.1,), (1.0, -2 / 3, 3.0)), covariance=((1e-9,), (1e-6, 2e-7, 0.0, 3e-6, -1e-7, 4e-6)),
        active=False,
    ),
    NetworkStep(
        id="ns", name="n", frame="f", observations="os", datum="weighted", hold=("m",),
        off=(1, "su:1:distance"), slope=False,
        k=0.2, alpha=0.01, power=0.9, loop_limit=(0.01, 2e-6), components=True, robust=True,
        down=((2, 3.0), ("su:0:zenith", 1.5)), centring_m=0.001, biases=(("scale", "tape"),), active=False,
    ),
    DesignStep(
        id="de", name="n", frame="f", kind=("vector", "sighting"), at=("m", "b"), to=("b", "m"), off=(1,),
        marks=(("b", 1.5, -2.0, 1 / 3),), limit_m=0.02, vector_m=0.004, vector_part=1e-6, direction_s=1.0,
        zenith_s=2.0, distance_m=0.001, distance_part=1e-6, centring_m=0.0005, levelling_m=0.001,
        active=False,
    ),
    EpochsStep(id="ep", name="n", first="ns", second="n2", stable=("m",), alpha=0.05, active=False),
    Setup(
        id="su", name="n", frame="f", station="m", word="known", source="s", height_m=1.6, target=("a", "b"),
        direction_rad=(0.1, 1 / 3), zenith_rad=(1.5, None), distance_m=(None, 2 / 3),
        target_height_m=(1.3, 0.0),
        prism_m=(0.0, -0.03), face=(1, 2), use=((1, "check"),), heights=False, grid=False, k=0.2,
        sigma_direction_s=3.0, sigma_zenith_s=4.0, sigma_distance_m=0.002, sigma_distance_ppm=1.0,
        active=False, round=(1, 2), time=("t1", "t2"), targets="weighted", scale="show",
        azimuths=((0, 1 / 3),), instrument="im", collimation_rad=0.1, index_rad=1 / 3,
        air=Air(temperature_c=-3.5, pressure_hpa=1 / 3 * 1e3, humidity_percent=7.0, carrier_um=0.85,
                reference=281.8, applied_ppm=-4.5),
    ),
    InstrumentModel(
        id="im", name="n", sigma_direction_s=1.0, sigma_zenith_s=2.0, sigma_distance_m=0.001,
        sigma_distance_ppm=1.5, collimation_rad=1 / 3, index_rad=-1 / 3, active=False,
    ),
    MarkVelocity(
        id="v", mark="m", frame="f", east_m=0.014, north_m=-0.015, up_m=0.003, source="s", active=False
    ),
    TapedDistance(
        id="td", first="m", second="a", length_m=1 / 3, slope=False, temperature_c=12.5, standard_c=15.0,
        expansion=1e-5, sigma_m=0.005, sigma_ppm=20.0, active=False,
    ),
    SpaceFit(id="sf", name="n", source_frame="f", target_frame="g", parameters=3, off=("a",), active=False),
    Centre(id="ce", name="n", mark="m", rim=("a", "b"), active=False),
    TraverseBook(
        id="tb", name="n", frame="f", source="s", here=("m", "a"), there=("a", "b"),
        kind=("right", "azimuth"),
        direction_rad=(0.1, 1 / 3), distance_m=(100.0, 2 / 3), dh_m=(None, -1 / 3), back="b",
        start_azimuth_rad=0.2, close="b", loop=True, fore="m", closing_azimuth_rad=0.3,
        closing_angle_rad=0.4, balance=True, method="transit", heights_by="setups", grid=False,
        sigma_angle_s=3.0, sigma_distance_m=0.002, sigma_distance_ppm=1.0, spec=5000.0, angle_limit_s=9.0,
        setups=("x", "y"), active=False,
    ),
    LevelBook(
        id="lb", name="n", frame="f", source="s", first=("m", "a"), second=("a", "b"), dh_m=(1 / 3, -2.0),
        length=(1.5, 3.0), length_kind="setups", free=("b",), off=(1,), sigma_m=0.002, limit_m=0.003,
        active=False,
    ),
    Equipment(
        rover="/dev/r", corrections="ntrip://u@h:1/n", base="h:2", base_control="h:3", rover_control="h:4",
        antenna="M", height_m=1.8, method="slant", epochs=30, solution="float", max_sigma_h_m=0.01,
        max_sigma_v_m=0.02, max_pdop=3.0, weights="pdop", mask_deg=15.0, rate_hz=5, interval_s=10.0,
        strength_dbhz=33.0, naming="{day}", message_set="legacy", channel=3,
        instrument="h:5", target_m=1.2, prism_m=-0.03, both_faces=True,
        active=False,
    ),
    PositionChoice(id="c", mark="m", frame="f", origin="fit", reason="nearer", active=False),
)  # fmt: skip


class ThroughTheLedger(TempFolder):
    def test_all_kinds_come_back_as_they_were(self) -> None:
        self.assertEqual({type(r) for r in EVERY_KIND}, set(KINDS.values()))
        job = Job.create(self.folder / "all.fenwind", "all")
        others = [r for r in EVERY_KIND if not isinstance(r, JobInfo)]
        job.record("all", [Add(record=r) for r in others])
        info = EVERY_KIND[0]
        assert isinstance(info, JobInfo)
        changed = {k: getattr(info, k) for k in ("name", "frame", "angle_style", "decimals", "active")}
        job.record("job", [amend(job.state.info, **changed)])
        step = job.state.fits["fit"]
        job.record("fields", [amend(step, reason="why", uses=(("q", "both"),), pivot=None, scale=None)])
        setup, air = job.state.of(Setup)["su"], Air(temperature_c=1 / 3, pressure_hpa=900.0)
        job.record("air", [amend(setup, air=air)])
        job.close()
        again = Job.open(self.folder / "all.fenwind")
        self.addCleanup(again.close)
        wanted = {r.id: r for r in EVERY_KIND}
        wanted["su"] = replace(setup, air=air)
        wanted["fit"] = replace(step, uses=(("q", "both"),), pivot=None, scale=None)
        self.assertEqual(again.state.records, wanted)
        self.assertEqual(again.state.amendments["fit"][0].old["pivot"], ("m", "q"))
        self.assertEqual(again.state.amendments["fit"][0].reason, "why")


class Follows(TempFolder):
    """The demo job, one record changed at a time."""

    def setUp(self) -> None:
        super().setUp()
        self.job = self.demo()
        self.before = self.derive(self.job)

    def after(self, *entries: object) -> object:
        self.job.record("change", entries)
        return self.derive(self.job)

    def test_control_that_is_switched_off_is_not_used(self) -> None:
        derived = self.after(amend(self.job.state.given["g-T-02"], active=False))
        self.assertNotIn("T-02", derived.fits["fit-1"].case.result.pairs.names)
        self.assertEqual(derived.adopted["dam"].basis[derived.adopted["dam"].index["T-02"]], "carried")
        derived = self.after(amend(self.job.state.marks["T-03"], active=False))
        self.assertNotIn("T-03", derived.fits["fit-1"].case.result.pairs.names)
        self.assertNotIn("T-03", derived.adopted["dam"].names)
        derived = self.after(amend(self.job.state.measured["m-P-02-1"], active=False))
        self.assertNotIn("P-02", derived.adopted["dam"].names)

    def test_sigmas_of_known_positions_are_weighed(self) -> None:
        given = self.job.state.given["g-T-02"]
        derived = self.after(amend(given, sigma_h_m=0.5, sigma_v_m=0.7))
        case = derived.fits["fit-1"].case
        row = case.known.index["T-02"]
        np.testing.assert_allclose(np.diag(case.known.covariance[:, :, row]), [0.25, 0.25, 0.49])
        i = case.result.pairs.names.index("T-02")
        self.assertGreater(case.result.pairs.redundancy[0, i], 0.99)
        self.assertGreater(case.result.pairs.redundancy[2, i], 0.99)
        before = self.before.fits["fit-1"].case.result
        self.assertLess(before.pairs.redundancy[2, before.pairs.names.index("T-02")], 0.95)

    def test_undo_of_an_addition_takes_its_results_along(self) -> None:
        mark = Mark(id="new", name="NEW")
        given = GivenPosition(id="g-new", mark="new", frame="dam", e_m=1000.0, n_m=2000.0)
        derived = self.after(Add(record=mark), Add(record=given))
        self.assertIn("NEW", derived.adopted["dam"].names)
        self.job.undo()
        again = self.derive(self.job)
        self.assertEqual(again.adopted["dam"].names, self.before.adopted["dam"].names)
        self.job.redo()
        self.assertIn("NEW", self.derive(self.job).adopted["dam"].names)

    def test_the_epoch_of_an_occupation_counts(self) -> None:
        """ITRF2020 to ETRS89 (generic): positions on the plate move by about 25 mm a year in Norway."""
        moving = FrameRecord(id="itrf", spec=FrameSpec(name="GDA", crs="EPSG:7855"))
        place = {"lat_rad": math.radians(-33.0), "lon_rad": math.radians(147.0), "h_m": 10.0}
        occupation = MeasuredPosition(id="o", mark="q", crs="EPSG:7912", epoch_year=2010.0, **place)
        derived = self.after(Add(record=moving), Add(record=Mark(id="q", name="Q")), Add(record=occupation))
        first = derived.adopted["itrf"]
        derived = self.after(amend(self.job.state.measured["o"], epoch_year=2020.0))
        second = derived.adopted["itrf"]
        i, j = first.index["Q"], second.index["Q"]
        moved = math.hypot(first.e_m[i] - second.e_m[j], first.n_m[i] - second.n_m[j])
        self.assertAlmostEqual(moved, 0.6, delta=0.12)

    def test_carried_latitudes_are_those_of_the_frames_datum(self) -> None:
        """An occupation in another datum: the fit looks at where it lies in the datum of its frame."""
        utm = FrameRecord(id="aus", spec=FrameSpec(name="GDA2020", crs="EPSG:7855"))
        known = FrameRecord(id="site", spec=FrameSpec(name="Site"))
        place = {"lat_rad": math.radians(-33.0), "lon_rad": math.radians(147.0), "h_m": 10.0}
        new = [utm, known, Mark(id="q", name="Q")]
        new += [MeasuredPosition(id="o", mark="q", crs="EPSG:4939", **place)]  # GDA94
        new += [GivenPosition(id="gq", mark="q", frame="site", e_m=0.0, n_m=0.0)]
        new += [FitStep(id="f2", name="Fit 2", source_frame="aus", target_frame="site", height="none")]
        derived = self.after(*(Add(record=r) for r in new))
        case = derived.fits["f2"].case
        self.assertGreater(abs(case.lat_rad[0] - place["lat_rad"]) * 6.37e6, 1.0)
        self.assertAlmostEqual(case.measured.e_m[0], derived.adopted["aus"].e_m[0])
        from fenwind.geodesy.frames import open_frame

        e, n = open_frame(utm.spec).forward(case.lat_rad[0], case.lon_rad[0])
        np.testing.assert_allclose([e, n], [case.measured.e_m[0], case.measured.n_m[0]], atol=1e-6)
