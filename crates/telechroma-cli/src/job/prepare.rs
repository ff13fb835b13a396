//! What must be known of a whole scene before its cells are computed: its dark objects.

use telechroma_core::method::{Recipe, Target, dark_objects, dark_troubles, needed_roles};
use telechroma_core::run::Observer;
use telechroma_core::scene::{BandRole, DarkObject, Scene};

use crate::context::Context;
use crate::report::Report;

/// Looks through whole scenes for what the recipe needs to know of them, one scene at a time.
///
/// # Errors
/// Where reading fails, or a scene has no dark object.
pub fn prepare(scenes: &mut [Scene], recipe: &Recipe, ctx: &Context) -> Result<(), Report> {
    let roles = needed_roles(scenes, recipe)?;
    prepare_roles(scenes, &roles, recipe.target, ctx)
}

/// The same for some bands.
///
/// # Errors
/// As [`prepare`].
pub fn prepare_roles(scenes: &mut [Scene], roles: &[BandRole], target: Target, ctx: &Context) -> Result<(), Report> {
    if !target.is_surface() {
        return Ok(());
    }
    for scene in scenes {
        scene.dark = dark_objects(scene, roles, ctx.budget, &ctx.progress)?;
        ctx.progress.clear();
        match scene.dark.is_empty() {
            true => ctx.progress.say(&format!("{}: values as delivered, level {}", scene.id, scene.level)),
            false => ctx.progress.say(&format!("{}: dark objects {}", scene.id, dark_text(&scene.dark))),
        }
        dark_troubles(scene).into_iter().for_each(|n| ctx.progress.note(n));
    }
    Ok(())
}

/// Stands in for what a dry run does not look for.
///
/// # Errors
/// Where the recipe needs bands that are not there.
pub fn foresee(scenes: &mut [Scene], recipe: &Recipe) -> Result<(), Report> {
    if recipe.target.is_surface() {
        let roles = needed_roles(scenes, recipe)?;
        for scene in scenes {
            scene.dark =
                roles.iter().map(|r| DarkObject { role: *r, count: None, reflectance: 0.0, cells: 0 }).collect();
        }
    }
    Ok(())
}

/// Band, reflectance, count and number of cells of each dark object.
pub fn dark_text(dark: &[DarkObject]) -> String {
    let one = |d: &DarkObject| {
        let count = d.count.map_or(String::new(), |c| format!("count {c}, "));
        format!("{} {:.4} ({count}{} cells)", d.role, d.reflectance, d.cells)
    };
    dark.iter().map(one).collect::<Vec<_>>().join(", ")
}
