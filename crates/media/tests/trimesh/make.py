"""Makes the models of this folder with trimesh (pip install trimesh), and writes down what trimesh says of each."""
import json
import pathlib

import numpy as np
import trimesh
from trimesh.visual.material import PBRMaterial

here = pathlib.Path(__file__).parent
body = trimesh.creation.capsule(height=1.2, radius=0.4, count=[8, 10])
ring = trimesh.creation.annulus(r_min=0.45, r_max=0.7, height=0.2, sections=12)
ring.apply_transform(trimesh.transformations.rotation_matrix(0.4, [1, 2, 0], [0, 0, 0.6]))
whole = trimesh.util.concatenate([body, ring])
whole.visual.vertex_colors = np.column_stack([(whole.vertices - whole.bounds[0]) / np.ptp(whole.bounds, axis=0) * 255, np.full(len(whole.vertices), 255)]).astype(np.uint8)

scene = trimesh.Scene()
for name, mesh, colour in (("body", body, [200, 40, 30, 255]), ("ring", ring, [240, 240, 230, 255])):
    part = mesh.copy()
    material = PBRMaterial(name=name, baseColorFactor=colour, metallicFactor=0.0, roughnessFactor=0.6)
    part.visual = trimesh.visual.TextureVisuals(uv=part.vertices[:, :2], material=material)
    turn = trimesh.transformations.rotation_matrix(0.3 if name == "ring" else 0.0, [0, 1, 0])
    scene.add_geometry(part, node_name=name, geom_name=name, transform=turn)

whole.export(here / "buoy.ply")
whole.export(here / "buoy-text.ply", encoding="ascii")
whole.export(here / "buoy.stl")
whole.export(here / "buoy.obj", include_color=False)
scene.export(here / "buoy.glb")
of = lambda mesh: {"triangles": len(mesh.faces), "area": float(mesh.area), "ends": [*map(float, mesh.bounds[0]), *map(float, mesh.bounds[1])]}
said = {name: of(whole) for name in ("buoy.ply", "buoy-text.ply", "buoy.stl", "buoy.obj")}
said["buoy.glb"] = of(scene.to_mesh())
(here / "said.json").write_text(json.dumps(said, indent=1) + "\n")
