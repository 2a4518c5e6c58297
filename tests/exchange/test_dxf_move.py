"""Line work moved: every kind of entity lands where a similarity computed apart says, and keeps layer, colour
and handle."""

import math
import unittest
from dataclasses import replace
from pathlib import Path

import ezdxf
import numpy as np
from ezdxf import bbox
from ezdxf.document import Drawing

from fenwind.errors import FormatError, ProcedureError
from fenwind.exchange.dxf_move import move_drawing, preview
from fenwind.procedures.fit import FitOptions
from fenwind.procedures.move import Move, distances, move_fit, move_of, shift_pairs, turn, turn_between
from fenwind.procedures.positions import Positions, positions
from tests.support import TempFolder

TURN, E0, N0 = math.radians(31.25), 468000.0, 6797000.0


def there(e: float, n: float, scale: float = 1.0) -> tuple[float, float]:
    """The truth: clockwise by TURN about (1000, 2000), which comes to (E0, N0)."""
    z = complex(e - 1000.0, n - 2000.0) * scale * complex(math.cos(TURN), -math.sin(TURN))
    return z.real + E0, z.imag + N0


def pairs(scale: float = 1.0) -> tuple[Positions, Positions]:
    e, n = np.array([1000.0, 1400.0, 1200.0]), np.array([2000.0, 2100.0, 2500.0])
    h = np.array([10.0, 11.0, np.nan])
    to = np.array([there(x, y, scale) for x, y in zip(e, n, strict=True)]).T
    return positions(["A", "B", "C"], e, n, h), positions(["A", "B", "C"], *to, h + 0.125)


def made(**options: str) -> Move:
    source, target = pairs(1.0001 if options.get("horizontal") == "scale" else 1.0)
    return move_of(
        move_fit(source, target, FitOptions(**({"horizontal": "turn", "height": "none"} | options))), target
    )


def drawing() -> Drawing:
    made = ezdxf.new("R2018", setup=True, units=6)
    made.layers.add("walls", color=3)
    block = made.blocks.new("bolt")
    block.add_line((-1, 0), (1, 0))
    block.add_attdef("NAME", (0, 1))
    space = made.modelspace()
    on = {"layer": "walls", "color": 5}
    space.add_line((1000, 2000, 5), (1100, 2000, 6), dxfattribs=on)
    space.add_arc((1050, 2050), 10, 0, 90, dxfattribs=on)
    space.add_circle((1060, 2060, 7), 4)
    space.add_text("gate", rotation=10, dxfattribs={"insert": (1010, 2020), "height": 2})
    space.add_mtext("yard", dxfattribs={"insert": (1020, 2030), "rotation": 20.0})
    space.add_lwpolyline(
        [(1000, 2000, 0.5), (1010, 2000, 0), (1010, 2010, 0)], format="xyb", dxfattribs={"elevation": 3}
    )
    space.add_polyline3d([(1000, 2000, 1), (1001, 2002, 2)])
    space.add_blockref("bolt", (1200, 2100), dxfattribs={"rotation": 45}).add_auto_attribs({"NAME": "T-09"})
    space.add_point((1300, 2300, 9))
    space.add_point((*there(1400, 2100), 0))  # a target, drawn already
    space.add_linear_dim(base=(1000, 1990), p1=(1000, 2000), p2=(1100, 2000)).render()
    space.add_ellipse((1500, 2500), (10, 0), 0.5)
    space.add_spline([(1000, 2000), (1010, 2010), (1020, 2000)])
    return made


def heights_everywhere(made: Drawing, ext: int) -> None:
    """One entity of every kind at a height; ext: the direction of extrusion."""
    space, z, on = made.modelspace(), 5.0, {"extrusion": (0, 0, ext)}
    up = z * ext  # as entities with an extrusion store it
    space.add_line((0, 0, z), (10, 5, z + 1))
    space.add_circle((2, 3, up), 4, dxfattribs=on)
    space.add_arc((2, 3, up), 4, 10, 80, dxfattribs=on)
    space.add_ellipse((2, 3, z), (4, 0, 0), 0.5)
    space.add_lwpolyline([(0, 0), (5, 0), (5, 5)], dxfattribs={"elevation": up, **on})
    space.add_polyline2d([(0, 0), (5, 0), (5, 5)], dxfattribs={"elevation": (0, 0, up), **on})
    space.add_polyline3d([(0, 0, z), (5, 0, z + 2), (5, 5, z + 4)])
    space.add_spline([(0, 0, 0), (5, 0, z + 1), (5, 5, z + 3)])
    space.add_hatch(dxfattribs={"elevation": (0, 0, up), **on}).paths.add_polyline_path(
        [(0, 0), (5, 0), (5, 5)], is_closed=True
    )
    space.add_mline([(0, 0, z), (3, 3, z), (6, 3, z)])
    with space.add_mesh().edit_data() as mesh:
        mesh.vertices, mesh.faces = [(0, 0, 0), (1, 0, z + 1), (0, 1, z + 2)], [(0, 1, 2)]
    space.add_3dface([(0, 0, 0), (5, 0, z + 1), (5, 5, z + 2), (0, 5, z)])
    space.add_solid([(0, 0, up), (5, 0, up), (0, 5, up)], dxfattribs=on)
    space.add_text("A", dxfattribs={"insert": (1, 1, up), "height": 1, **on})
    space.add_mtext("B", dxfattribs={"insert": (1, 1, z)})
    made.blocks.new("raised").add_line((0, 0, 0), (1, 1, 2))
    space.add_blockref("raised", (3, 4, up), dxfattribs=on)
    space.add_blockref("raised", (3, 4, 0), dxfattribs=on)
    space.add_point((1, 2, z))
    space.add_polyface().append_faces([[(0, 0, z), (1, 0, z + 1), (0, 1, z + 2)]])


class Drawings(TempFolder):
    def run_move(self, move: Move, stay: tuple[str, ...] = ()) -> tuple[Drawing, Drawing, object]:
        drawing().saveas(self.path("old.dxf"))
        done = move_drawing(self.path("old.dxf"), self.path("new.dxf"), move, stay)
        return ezdxf.readfile(self.path("old.dxf")), ezdxf.readfile(self.path("new.dxf")), done

    def one(self, of: Drawing, query: str):
        return of.modelspace().query(query)[0]

    def at(self, point, e: float, n: float, h: float | None = None, scale: float = 1.0) -> None:
        np.testing.assert_allclose([point[0], point[1]], there(e, n, scale), atol=2e-9, rtol=0)
        if h is not None:
            self.assertAlmostEqual(point[2], h, places=9)

    def test_every_kind_lands_where_it_should(self) -> None:
        old, new, done = self.run_move(made())
        degrees = math.degrees(TURN)
        line, arc, circle = (self.one(new, q) for q in ("LINE", "ARC", "CIRCLE"))
        self.at(line.dxf.start, 1000, 2000, 5)
        self.at(line.dxf.end, 1100, 2000, 6)
        self.assertEqual(
            (line.dxf.layer, line.dxf.color, line.dxf.handle), ("walls", 5, self.one(old, "LINE").dxf.handle)
        )
        self.at(arc.dxf.center, 1050, 2050)
        self.assertAlmostEqual(arc.dxf.start_angle % 360, -degrees % 360, places=9)
        self.assertAlmostEqual(arc.dxf.radius, 10.0, places=9)
        self.at(circle.dxf.center, 1060, 2060, 7)
        text, mtext, block = (self.one(new, q) for q in ("TEXT", "MTEXT", "INSERT"))
        self.at(text.dxf.insert, 1010, 2020)
        self.assertAlmostEqual(text.dxf.rotation % 360, (10 - degrees) % 360, places=9)
        self.assertAlmostEqual(mtext.get_rotation() % 360, (20 - degrees) % 360, places=6)
        self.at(block.dxf.insert, 1200, 2100)
        self.assertAlmostEqual(block.dxf.rotation % 360, (45 - degrees) % 360, places=9)
        self.assertEqual(
            new.blocks["bolt"].query("LINE")[0].dxf.start, (-1, 0, 0), "what a block is made of stays"
        )
        flat = self.one(new, "LWPOLYLINE")
        self.at(flat.get_points("xy")[1], 1010, 2000)
        self.assertEqual((flat.get_points("b")[0][0], flat.dxf.elevation), (0.5, 3))
        self.at(self.one(new, "POLYLINE").vertices[1].dxf.location, 1001, 2002, 2)
        self.at(self.one(new, "DIMENSION").dxf.defpoint2, 1000, 2000)
        self.at(self.one(new, "ELLIPSE").dxf.center, 1500, 2500)
        self.at(self.one(new, "SPLINE").fit_points[1], 1010, 2010)
        target = [p for p in new.modelspace().query("POINT") if p.dxf.location.z == 0]
        self.assertEqual(tuple(target[0].dxf.location)[:2], there(1400, 2100), "the target stays by itself")
        self.assertEqual([why for _, _, why in done.stayed], ["is a target of the move"])
        self.assertEqual(len(done.moved), len(old.modelspace()) - 1)
        self.assertEqual([e.dxf.handle for e in new.modelspace()], [e.dxf.handle for e in old.modelspace()])
        self.assertEqual(new.audit().errors, [])

    def test_named_things_stay_and_the_preview_says_so(self) -> None:
        old, new, done = self.run_move(made(), ("WALLS", "t-09", "gate"))
        for query in ("LINE", "INSERT", "TEXT"):
            self.assertEqual(str(self.one(new, query).dxfattribs()), str(self.one(old, query).dxfattribs()))
        self.assertEqual(
            sorted({why for _, _, why in done.stayed}),
            ["is a target of the move", "named: T-09", "named: gate", "named: walls"],
        )
        counts, stays, _ = preview(self.path("old.dxf"), made(), ("WALLS", "t-09", "gate"))
        self.assertEqual((counts.total(), stays), (len(done.moved), done.stayed))

    def test_a_point_and_the_text_that_names_it_stay_together(self) -> None:
        made_up = ezdxf.new(units=6)
        space = made_up.modelspace()
        for name, (e, n) in {
            "old": (1000.0, 2000.0), "new": there(1400, 2100), "kept": (1300.0, 2300.0),
        }.items():  # fmt: skip
            space.add_point((e, n))
            space.add_text(name, dxfattribs={"height": 2}).set_placement((e + 1.5, n + 1))
        made_up.saveas(self.path("labelled.dxf"))
        done = move_drawing(self.path("labelled.dxf"), self.path("out.dxf"), made(), ("Kept",))
        self.assertEqual((len(done.moved), len(done.stayed)), (2, 4))
        why = [why for _, _, why in done.stayed]
        self.assertEqual(
            why, ["is a target of the move", "names a point that stays: new", "named: kept", "named: kept"]
        )

    def test_heights_shift_only_where_there_are_any_and_never_scale(self) -> None:
        _, new, _ = self.run_move(made(height="shift"))
        self.at(self.one(new, "LINE").dxf.end, 1100, 2000, 6.125)
        self.assertEqual(self.one(new, "ARC").dxf.center.z, 0.0, "flat work stays flat")
        self.assertEqual(self.one(new, "LWPOLYLINE").dxf.elevation, 3.125)
        _, scaled, _ = self.run_move(made(horizontal="scale", height="shift"))
        self.at(self.one(scaled, "CIRCLE").dxf.center, 1060, 2060, 7.125, scale=1.0001)
        self.assertAlmostEqual(self.one(scaled, "CIRCLE").dxf.radius, 4.0004, places=9)
        self.at(self.one(scaled, "LINE").dxf.end, 1100, 2000, 6.125, scale=1.0001)
        self.assertAlmostEqual(self.one(scaled, "LWPOLYLINE").dxf.elevation, 3.125, places=12)

    def test_every_kind_with_a_height_is_lifted_and_none_scaled(self) -> None:
        """Heights of kinds of all sorts, from ezdxf's own extents, before and after; also mirrored ones."""
        for ext in (1, -1):
            old = ezdxf.new("R2010")
            heights_everywhere(old, ext)
            before = [bbox.extents([e]) for e in old.modelspace()]
            old.saveas(self.path("old.dxf"))
            move_drawing(self.path("old.dxf"), self.path("new.dxf"), made(horizontal="scale", height="shift"))
            new = list(ezdxf.readfile(self.path("new.dxf")).modelspace())
            self.assertEqual(len(new), len(before))
            for entity, was in zip(new, before, strict=True):
                now = bbox.extents([entity])
                with self.subTest(entity.dxftype(), extrusion=ext):
                    self.assertAlmostEqual(now.extmin.z, was.extmin.z + 0.125, places=6)
                    self.assertAlmostEqual(now.extmax.z, was.extmax.z + 0.125, places=6)

    def test_a_mirrored_insert_on_a_target_stays(self) -> None:
        e, n = there(1400, 2100)
        old = ezdxf.new()
        old.blocks.new("b").add_line((0, 0), (1, 1))
        on = old.modelspace().add_blockref("b", (-e, n), dxfattribs={"extrusion": (0, 0, -1)})
        old.modelspace().add_blockref("b", (e, n), dxfattribs={"extrusion": (0, 0, -1)})
        old.saveas(self.path("old.dxf"))
        done = move_drawing(self.path("old.dxf"), self.path("new.dxf"), made())
        self.assertEqual([handle for handle, _, _ in done.stayed], [on.dxf.handle])

    def test_a_tilted_plane_of_heights_is_refused(self) -> None:
        move = made()
        drawing().saveas(self.path("old.dxf"))
        tilted = replace(move, heights=True, height=replace(move.height, model="plane", slope_e=1e-4))
        for call in (
            lambda: preview(self.path("old.dxf"), tilted),
            lambda: move_drawing(self.path("old.dxf"), self.path("n.dxf"), tilted),
        ):
            with self.assertRaisesRegex(ProcedureError, "not tilted"):
                call()
        self.assertFalse(Path(self.path("n.dxf")).exists())

    def test_backwards_brings_it_back(self) -> None:
        source, target = pairs()
        result = move_fit(source, target, FitOptions(horizontal="turn", height="shift"))
        old, _, _ = self.run_move(move_of(result, target))
        done = move_drawing(
            self.path("new.dxf"), self.path("back.dxf"), move_of(result, target, backwards=True)
        )
        back = ezdxf.readfile(self.path("back.dxf"))
        self.assertEqual(len(done.stayed), 0)
        for a, b in zip(
            old.modelspace().query("LINE CIRCLE"), back.modelspace().query("LINE CIRCLE"), strict=True
        ):
            place = "start" if a.dxftype() == "LINE" else "center"
            self.assertTrue(a.dxf.get(place).isclose(b.dxf.get(place), abs_tol=3e-9))

    def test_bad_files_change_nothing(self) -> None:
        for name, text in {"cut.dxf": "0\nSECTION\n2\nENTITIES\n0\nLINE\n10", "not.dxf": "hello"}.items():
            with self.subTest(name), self.assertRaisesRegex(FormatError, name):
                move_drawing(self.write(name, text), self.path("out.dxf"), made())
        drawing().saveas(self.path("fine.dxf"))
        with self.assertRaisesRegex(FormatError, "cannot be written"):
            move_drawing(self.path("fine.dxf"), self.path("no/such/out.dxf"), made())
        self.assertEqual(sorted(p.name for p in Path(self.folder).glob("*out*")), [])


class Procedures(unittest.TestCase):
    def test_shift_and_turn_by_value_and_by_marks(self) -> None:
        shift = move_of(
            move_fit(
                *shift_pairs(10, 20, 5, (13, 16, 5.1234567)), FitOptions(horizontal="shift", height="shift")
            ),
            shift_pairs(0, 0, 0, (13, 16, 5))[1],
        )
        e, n, h = shift.apply(np.array([100.0]), np.array([100.0]), np.array([1.0]))
        np.testing.assert_allclose([e[0], n[0], h[0]], [103, 96, 1.1234567], rtol=0, atol=1e-12)
        angle = turn_between((0, 0), (0, 10), (10, 0))
        self.assertAlmostEqual(angle, math.pi / 2)
        source, target, options = turn((0.0, 0.0), angle)
        moved = move_of(move_fit(source, target, options), target).apply(
            np.array([0.0, 0.0]), np.array([10.0, 0.0]), np.array([7.0, math.nan])
        )
        np.testing.assert_allclose(np.array(moved)[:, 0], [10, 0, 7], atol=1e-12)
        self.assertTrue(math.isnan(moved[2][1]))
        with self.assertRaisesRegex(ProcedureError, "two different places"):
            turn_between((0, 0), (0, 0), (1, 1))
        source, target = pairs()
        with self.assertRaisesRegex(ProcedureError, "no pair has a height"):
            move_fit(
                source,
                positions(target.names, target.e_m, target.n_m, np.full(3, np.nan)),
                FitOptions(height="shift"),
            )

    def test_distances_show_a_scale(self) -> None:
        source, target = pairs(0.9996)
        found = distances(source, target)
        self.assertEqual(
            list(zip(found.first, found.second, strict=True)), [("A", "B"), ("A", "C"), ("B", "C")]
        )
        np.testing.assert_allclose(
            found.source, [math.hypot(400, 100), math.hypot(200, 500), math.hypot(200, 400)]
        )
        self.assertAlmostEqual(found.ratio, 0.9996, places=12)
        many = positions([str(i) for i in range(60)], np.arange(60.0), np.arange(60.0) ** 1.5, np.zeros(60))
        self.assertEqual(distances(many, many).source.size, 58 + 59)
