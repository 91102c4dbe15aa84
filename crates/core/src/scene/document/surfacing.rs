//! Surfaces of the scene.

use crate::geometry::Similarity;
use crate::scene::{Surface, SurfaceEditError, SurfaceId};
use serde::{Deserialize, Serialize};

/// The part of the document that is about surfaces beside the floor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Surfacing {
    /// In the order in which they were laid.
    pub surfaces: Vec<Surface>,
    /// The id that the next surface gets.
    pub next: SurfaceId,
}

impl Default for Surfacing {
    fn default() -> Self {
        Self { surfaces: Vec::new(), next: SurfaceId(1) }
    }
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum SurfacingEdit {
    /// Lays a surface; its id is given by the document.
    AddSurface {
        /// Where.
        surface: Surface,
    },
    /// Changes a surface.
    ChangeSurface {
        /// With the id of the one it replaces.
        surface: Surface,
    },
    /// Takes a surface away.
    RemoveSurface {
        /// Which.
        id: SurfaceId,
    },
}

impl Surfacing {
    /// The surface with an id.
    pub fn surface(&self, id: SurfaceId) -> Option<&Surface> {
        self.surfaces.iter().find(|s| s.id == id)
    }

    /// The surface with a name.
    pub fn named(&self, name: &str) -> Option<&Surface> {
        self.surfaces.iter().find(|s| s.name.eq_ignore_ascii_case(name.trim()))
    }

    fn check(&self, surface: &Surface) -> Result<(), SurfaceEditError> {
        surface.validate()?;
        match self.named(&surface.name) {
            Some(other) if other.id != surface.id => Err(SurfaceEditError::Name),
            _ => Ok(()),
        }
    }

    fn add(&mut self, surface: &Surface) -> Result<(), SurfaceEditError> {
        let id = self.next;
        let surface = Surface { id, ..surface.clone() };
        self.check(&surface)?;
        self.next = SurfaceId(id.0 + 1);
        self.surfaces.push(surface);
        Ok(())
    }

    pub(super) fn apply(&mut self, edit: &SurfacingEdit) -> Result<(), SurfaceEditError> {
        match edit {
            SurfacingEdit::AddSurface { surface } => self.add(surface)?,
            SurfacingEdit::ChangeSurface { surface } => {
                self.check(surface)?;
                let slot = self.surfaces.iter_mut().find(|s| s.id == surface.id);
                *slot.ok_or(SurfaceEditError::None { id: surface.id })? = surface.clone();
            }
            SurfacingEdit::RemoveSurface { id } => {
                if self.surface(*id).is_none() {
                    return Err(SurfaceEditError::None { id: *id });
                }
                self.surfaces.retain(|s| s.id != *id);
            }
        }
        Ok(())
    }

    /// Takes surfaces that were found: one that is there already keeps its name, others get names that are free.
    pub(super) fn take(&mut self, found: &[Surface]) -> Result<(), SurfaceEditError> {
        let mut there: Vec<SurfaceId> = self.surfaces.iter().map(|s| s.id).collect();
        for surface in found {
            let again = self.surfaces.iter().position(|s| there.contains(&s.id) && s.is_again(surface));
            if let Some(i) = again {
                let old = &self.surfaces[i];
                there.retain(|id| *id != old.id);
                self.surfaces[i] = Surface { id: old.id, name: old.name.clone(), ..surface.clone() };
                continue;
            }
            let name = self.free_name(&surface.name);
            self.add(&Surface { name, ..surface.clone() })?;
        }
        Ok(())
    }

    /// A name that no surface has: the one that is asked for, or the next of its row.
    pub fn free_name(&self, wanted: &str) -> String {
        let taken = |name: &str| self.named(name).is_some() || name.eq_ignore_ascii_case("floor");
        if !taken(wanted) {
            return wanted.to_owned();
        }
        let word = wanted.rsplit_once(' ').map_or(wanted, |(word, _)| word);
        let mut row = (0..).map(|i| format!("{word} {}", crate::scene::datum_letters(i)));
        row.find(|name| !taken(name)).unwrap_or_else(|| wanted.to_owned())
    }

    /// Moves everything with the world, so that it stays where it is in the picture.
    pub(super) fn move_with(&mut self, world: &Similarity) {
        self.surfaces.iter_mut().for_each(|s| s.move_with(world));
    }
}

impl SurfacingEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::AddSurface { .. } => "lay surface".to_owned(),
            Self::ChangeSurface { .. } => "change surface".to_owned(),
            Self::RemoveSurface { .. } => "remove surface".to_owned(),
        }
    }
}
