"""Words of the trade that commands are looked for by, beside their own."""

from __future__ import annotations

#: By a command's id; what stands for several is written out.
SYNONYMS = {
    "marks.paste": "import insert add coordinates points", "marks.read": "import open load csv xlsx "
    "points file",
    "marks.merge": "duplicate combine join same", "marks.off": "delete remove exclude",
    "marks.adopt": "average",
    "marks.control": "hold known fix",
    "sessions.start": "gnss rtk base reference receiver",
    "sessions.measure": "occupy shot gnss rtk rover", "sessions.tie": "shift base translate",
    "setups.take": "resection free station import total station", "setups.check": "backsight",
    "traverses.take": "import angles distances", "traverses.start": "angles distances field book",
    "levelling.take": "import level loop heights", "network.take": "import least squares adjustment",
    "network.everything": "combine all least squares adjustment", "network.down": "weight sigma downweight",
    "network.between": "relative ellipse local accuracy class ppm", "design.new": "plan simulate preanalysis",
    "design.list": "field plan sessions print", "epochs.new": "deformation monitoring displacement compare",
    "setups.write": "export landxml field book csv",
    "setups.instrument": "total station robotic connect resection stake out",
    "setups.standin": "simulate practise",
    "marks.centre": "center circle midpoint tank pole mast",
    "network.show.loops": "closure misclosure", "network.off": "delete exclude",
    "fits.new": "calibration localization localisation transformation helmert datum site",
    "fits.space": "helmert datum seven parameters geocentric bursa three parameters transformation 7",
    "fits.move": "transform rotate shift scale dxf drawing", "fits.compare": "difference deltas check",
    "frame.velocity": "epoch plate tectonic motion drift", "frame.velocities": "epoch plate motion list",
    "ground.explain": "why distances disagree tape drawing feet",
    "ground.factor": "scale factor combined grid to ground",
    "ground.own": "low distortion projection ldp corridor area elevation",

    "frame.find": "coordinate system epsg projection datum zone crs",
    "plan.measure": "inverse distance bearing",
    "plan.under": "backdrop dxf image background map", "edit.undo": "back",
    "edit.redo": "redo repeat",
    "handover.dxf": "export cad drawing", "handover.csv": "export list points",
    "handover.pdf": "export print",
    "handover.html": "export print", "handover.landxml": "export xml", "handover.kml": "export earth",
    "handover.targets": "export scan photo gcp", "job.new": "create start", "job.open": "load file",
    "job.copy": "save as backup duplicate", "job.letterhead": "logo company header",
    "job.client": "customer surveyor notes", "help.stage": "manual how", "help.shortcuts": "keys keyboard",
    "help.about": "version licence license", "go.frame": "geoid feet metres units axes epoch",
}  # fmt: skip
