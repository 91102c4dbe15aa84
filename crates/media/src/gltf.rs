//! glTF 2.0 binary: the animated camera, the points and meshes of a scene.
