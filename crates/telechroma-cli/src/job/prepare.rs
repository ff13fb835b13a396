//! What must be known of whole scenes before their cells are computed: dark objects, clouds and their shadows, outliers.

use std::sync::Arc;

use telechroma_core::mask::Reasons;
use telechroma_core::method::{
    Find, Frame, Light, MaskOptions, Recipe, Target, dark_objects, dark_troubles, find_outliers, find_sky,
    needed_roles, terrain_constants,
};
use telechroma_core::op::Extent;
use telechroma_core::physics::TerrainMethod;
use telechroma_core::run::{Note, Observer};
use telechroma_core::scene::{BandRole, Content, DarkObject, FlagPlane, Relief, Scene};

use crate::context::Context;
use crate::report::Report;

/// Looks through whole scenes for what the recipe needs to know of them, one scene at a time.
///
/// # Errors
/// Where reading fails, or a scene has no dark object.
pub fn prepare(scenes: &mut [Scene], recipe: &Recipe, ctx: &Context) -> Result<(), Report> {
    let roles = match recipe.target.is_surface() || recipe.light.terrain.is_some() {
        true => needed_roles(scenes, recipe)?,
        false => vec![],
    };
    light_up(scenes, &recipe.light)?;
    // those that no period takes are needed only where outliers are looked for among all dates
    let taken = |scene: &Scene| {
        recipe.mask.find.outliers
            || !recipe.sides.is_empty()
            || scene.date.is_none_or(|date| recipe.every.period(date).is_some())
    };
    for some in scenes.chunk_by_mut(|a, b| taken(a) == taken(b)).filter(|some| taken(&some[0])) {
        look_through(some, &roles, recipe.target, ctx)?;
    }
    prepare_masks(scenes, &recipe.mask, &recipe.frame, ctx)
}

/// True where whole scenes are looked through before the job itself.
pub fn looks_ahead(recipe: &Recipe) -> bool {
    recipe.target.is_surface() || recipe.light.terrain.is_some() || recipe.mask.find != Find::default()
}

/// The light on the scenes' cells, and the dark objects of some bands.
///
/// # Errors
/// As [`prepare`].
pub fn prepare_bands(
    scenes: &mut [Scene],
    roles: &[BandRole],
    target: Target,
    light: &Light,
    ctx: &Context,
) -> Result<(), Report> {
    light_up(scenes, light)?;
    look_through(scenes, roles, target, ctx)
}

/// The dark objects of some bands, and how their light changes with the slope.
fn look_through(scenes: &mut [Scene], roles: &[BandRole], target: Target, ctx: &Context) -> Result<(), Report> {
    prepare_roles(scenes, roles, target, ctx)?;
    for scene in scenes.iter_mut() {
        let Some(Relief { method: TerrainMethod::C, elevation, .. }) = &scene.relief else { continue };
        let (found, notes) = terrain_constants(scene, elevation, roles, target, ctx.budget, &ctx.progress)?;
        ctx.progress.clear();
        notes.into_iter().for_each(|n| ctx.progress.note(n));
        let text: Vec<String> = found.iter().filter(|c| c.1 < 1e6).map(|(r, c)| format!("{r} {c:.3}")).collect();
        ctx.progress.say(&format!("{}: terrain constants {}", scene.id, text.join(", ")));
        if let Some(relief) = &mut scene.relief {
            relief.constants = found;
        }
    }
    Ok(())
}

/// Lays the relief under scenes, and leaves them their sun angles only where they are to be used.
fn light_up(scenes: &mut [Scene], light: &Light) -> Result<(), Report> {
    for scene in scenes {
        match (light.per_cell, &scene.sun_zenith) {
            (false, _) => scene.sun_zenith = None,
            (true, None) if scene.bands.iter().any(|b| matches!(b.content, Content::Counts(_))) => {
                return Err(Report::usage(format!("scene {}: the delivery holds no band of sun angles", scene.id))
                    .hint("leave --sun-angle out: the angle at the scene's middle is then used"));
            }
            (true, _) => {}
        }
        scene.relief = light.terrain.as_ref().map(|(method, elevation)| Relief {
            method: *method,
            elevation: elevation.clone(),
            constants: vec![],
        });
    }
    Ok(())
}

/// Dark objects of some bands.
///
/// # Errors
/// As [`prepare`].
fn prepare_roles(scenes: &mut [Scene], roles: &[BandRole], target: Target, ctx: &Context) -> Result<(), Report> {
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

/// Clouds, shadows and outliers that are looked for in the cells themselves.
///
/// # Errors
/// Where reading fails, or a scene lacks what the tests need.
pub fn prepare_masks(scenes: &mut [Scene], options: &MaskOptions, frame: &Frame, ctx: &Context) -> Result<(), Report> {
    without_effect(scenes, options, ctx)?;
    for scene in scenes.iter_mut() {
        let Some(found) = find_sky(scene, options, ctx.budget, &ctx.progress)? else { break };
        ctx.progress.clear();
        ctx.progress.say(&format!("{}: {}", scene.id, found.said.join("; ")));
        found.notes.into_iter().for_each(|n| ctx.progress.note(n));
        scene.flags.push(found.flags);
    }
    if !options.find.outliers {
        return Ok(());
    }
    if scenes.len() < 2 {
        return Err(Report::usage("outliers are looked for among the dates of a cell: one scene makes no series"));
    }
    let (flags, count) = find_outliers(scenes, options, frame, ctx.budget, &ctx.progress)?;
    ctx.progress.clear();
    ctx.progress.say(&format!("{count} looks lie far above their own series in {} scenes", scenes.len()));
    scenes.iter_mut().zip(flags).for_each(|(s, f)| s.flags.push(f));
    Ok(())
}

/// Says which wishes for a mask change nothing.
fn without_effect(scenes: &[Scene], options: &MaskOptions, ctx: &Context) -> Result<(), Report> {
    let graded = |s: &&Scene| s.flags.iter().any(|f| !f.confidence.is_empty());
    if options.confidence.is_some()
        && let Some(scene) = scenes.iter().find(|s| !graded(s))
    {
        let text = format!("scene {}: its flags hold no confidence, so --confidence changes nothing in it", scene.id);
        ctx.progress.note(Note::Metadata(text));
    }
    for outline in &options.areas {
        let mut met = false;
        for scene in scenes {
            met |= outline.covers(&scene.grid, &format!("scene {}", scene.id))?.is_some();
        }
        if !met {
            ctx.progress.note(Note::Coordinates(format!("{} meets no scene: nothing is dropped in it", outline.name)));
        }
    }
    Ok(())
}

/// Stands in for what a dry run does not look for.
///
/// # Errors
/// Where the recipe needs bands that are not there.
pub fn foresee(scenes: &mut [Scene], recipe: &Recipe) -> Result<(), Report> {
    if recipe.mask.find.clouds {
        for scene in scenes.iter_mut() {
            scene.flags.extend(scene.bands.first().map(|b| FlagPlane {
                name: "clouds".into(),
                legend: vec![(Reasons::FILL.bits(), Reasons::FILL)],
                confidence: vec![],
                source: Arc::new(Extent::of(&b.source)),
                raw: None,
            }));
        }
    }
    light_up(scenes, &recipe.light)?;
    if recipe.target.is_surface() || recipe.light.terrain.is_some() {
        let roles = needed_roles(scenes, recipe)?;
        for scene in scenes {
            let nothing = |r: &BandRole| (*r, 0.0);
            scene.relief.iter_mut().for_each(|relief| relief.constants = roles.iter().map(nothing).collect());
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
