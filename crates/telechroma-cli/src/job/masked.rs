//! Pictures of scenes with the reasons why cells are dropped.

use serde_json::json;
use telechroma_core::mask::{REASONS, Reasons};
use telechroma_core::method::{Frame, MaskOptions, plan_masked};
use telechroma_core::run::{Plan, Sink, run};
use telechroma_core::scene::{BandRole, Scene};
use telechroma_io::figure::{Colour, Entry, MaskFigure, PictureEncoder, Shown, ends};
use telechroma_io::publish::Publisher;

use super::Naming;
use super::describe::mask_step;
use super::pictures::{COLOURS, STRETCH};
use crate::context::Context;
use crate::report::Report;

/// Reasons by weight, with their colours: a cell that has several is drawn in that of the first.
const ORDER: &[(Reasons, Colour)] = &[
    (Reasons::GIVEN, [138, 109, 59]),
    (Reasons::CLOUD, [226, 87, 76]),
    (Reasons::SHADOW, [63, 95, 196]),
    (Reasons::CIRRUS, [199, 125, 214]),
    (Reasons::DILATED, [240, 152, 62]),
    (Reasons::OUTLIER, [122, 63, 160]),
    (Reasons::SNOW, [64, 190, 205]),
    (Reasons::WATER, [31, 122, 140]),
    (Reasons::SATURATED, [232, 195, 58]),
    (Reasons::GROWN, [250, 214, 120]),
];

/// The bands of a scene's colour picture.
fn colours(scene: &Scene, asked: Option<&[BandRole]>) -> Result<[BandRole; 3], Report> {
    if let Some(asked) = asked {
        return asked.try_into().map_err(|_| Report::usage("--bands takes three bands, as red, green and blue"));
    }
    let there = |names: &[&str; 3]| {
        let role = |n: &str| BandRole::from_name(n).filter(|r| scene.band(*r).is_some());
        Some([role(names[0])?, role(names[1])?, role(names[2])?])
    };
    COLOURS.iter().find_map(there).ok_or_else(|| {
        Report::usage(format!("scene {}: it lacks three bands that make a colour picture", scene.id))
            .hint("name three bands with --bands; 'telechroma inspect' shows what there is")
    })
}

/// Draws each scene under its mask.
///
/// # Errors
/// Whatever goes wrong; nothing is left behind then.
pub fn draw_masks(
    scenes: &[Scene],
    options: &MaskOptions,
    frame: &Frame,
    asked: Option<&[BandRole]>,
    naming: &Naming,
    ctx: &Context,
) -> Result<(), Report> {
    if let (Some(name), true) = (&naming.single, scenes.len() > 1) {
        return Err(Report::usage(format!("{} scenes do not go into one file '{name}'", scenes.len()))
            .hint("give a folder to --out"));
    }
    let mut publisher = Publisher::new(&naming.root, ctx.overwrite)?;
    let mut names = vec![];
    for scene in scenes {
        let name = naming.single.clone().unwrap_or_else(|| format!("{}_mask.png", scene.id));
        let path = publisher.stage(&name)?;
        let bands = colours(scene, asked)?;
        let png = draw(scene, options, frame, bands, ctx)?;
        std::fs::write(&path, png).map_err(|e| telechroma_io::Error::io(&path, e))?;
        names.push(name);
    }
    publisher.publish()?;
    ctx.progress.clear();
    match ctx.json {
        true => {
            let outputs: Vec<_> = names.iter().map(|n| json!({"kind": "picture", "path": n})).collect();
            let notes: Vec<String> = ctx.progress.notes().iter().map(ToString::to_string).collect();
            ctx.print_json(&json!({"outputs": outputs, "notes": notes}));
        }
        false => names.iter().for_each(|n| ctx.progress.say(n)),
    }
    Ok(())
}

fn draw(
    scene: &Scene,
    options: &MaskOptions,
    frame: &Frame,
    bands: [BandRole; 3],
    ctx: &Context,
) -> Result<Vec<u8>, Report> {
    let order: Vec<Reasons> = ORDER.iter().map(|o| o.0).collect();
    let (g, leading, planes) = plan_masked(scene, options, &order, bands, frame)?;
    let (encoder, mut file) = PictureEncoder::create(g.grid(), 3);
    let (by_class, mut classes) = PictureEncoder::of_classes(g.grid());
    let sinks = vec![
        Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: &encoder, absorb: &mut file },
        Sink { groups: vec![vec![leading]], prepare: &by_class, absorb: &mut classes },
    ];
    let plan = Plan::new(g, &sinks, ctx.budget)?;
    run(&plan, sinks, &ctx.progress)?;
    let (picture, reasons) = (file.finish(), classes.finish());
    let numbers = &reasons.planes[0];
    let count = |n: usize| numbers.iter().filter(|v| **v == n as f32).count();
    let seen = numbers.iter().filter(|v| !v.is_nan()).count();
    let share = |n: usize, of: usize| format!("{:.1} %", 100.0 * n as f64 / of.max(1) as f64);
    let entry = |(i, (reason, colour)): (usize, &(Reasons, Colour))| {
        let def = REASONS.iter().find(|d| d.reason == *reason);
        let amount = Some(count(i + 1)).filter(|n| *n > 0).map_or(String::new(), |n| share(n, seen));
        Entry { name: def.map_or(String::new(), |d| d.name.to_string()), amount, colour: *colour }
    };
    // clouds would leave the ground no light: the stretch is that of the clear cells
    let stretch = std::array::from_fn(|c| {
        let clear = picture.planes[c].iter().zip(numbers).filter(|(_, n)| **n == 0.0).map(|(v, _)| *v);
        ends(clear, STRETCH.0, STRETCH.1)
            .or_else(|| ends(picture.planes[c].iter().copied(), STRETCH.0, STRETCH.1))
            .unwrap_or((0.0, 1.0))
    });
    let day = scene.date.map_or(String::new(), |d| format!(", {d}"));
    let shown = Shown {
        title: format!("{}{day}: what is dropped", scene.platform),
        subtitle: format!("{}  ·  {}", scene.id, mask_step(options)),
        outlines: vec![],
        before: vec![],
    };
    let entries = ORDER.iter().enumerate().map(entry).collect();
    let clear = format!("{} of the cells seen", share(count(0), seen));
    let fill = format!("{} of the scene", share(numbers.len() - seen, numbers.len()));
    let figure = MaskFigure { picture: &picture, reasons: &reasons, shown, stretch, entries, fill, clear };
    figure.png().map_err(|e| Report::failed(format!("the picture cannot be drawn: {e}")))
}
