//! `mask`: a clear-sky layer a scene.

use telechroma_core::mask::Reasons;
use telechroma_core::method::plan_mask;
use telechroma_core::run::Observer;
use telechroma_core::scene::Scene;
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_core::units::Unit;
use telechroma_io::raster::description::{BandInfo, Kind};

use crate::commands::chain::{MaskArgs, Out, Selection};
use crate::context::{Context, listed};
use crate::job::{SceneRaster, mask_step, open_inputs, prepare_masks, write_scene_rasters};
use crate::report::Report;

/// Write a clear-sky layer a scene: 0 is clear, else bits say why a cell is dropped
///
/// Example: telechroma mask scenes --drop fill,cloud,shadow --grow 60m --why --out masks
#[derive(clap::Args)]
pub struct Args {
    /// Scenes or folders of scenes; @list.txt for a list
    #[arg(required = true, value_name = "SCENE")]
    pub inputs: Vec<String>,
    /// Print the cells and the share of each reason, and what it alone drops
    #[arg(long)]
    pub why: bool,
    #[command(flatten)]
    pub mask: MaskArgs,
    #[command(flatten)]
    pub selection: Selection,
    #[command(flatten)]
    pub out: Out,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let options = args.mask.options()?;
    let mut inputs = open_inputs(&listed(&args.inputs)?, &args.selection.filter()?, ctx)?;
    let frame = args.selection.frame.frame()?;
    let naming = args.out.naming(&["tif", "tiff"]);
    let name = |scene: &Scene| format!("{}_mask.tif", scene.id);
    naming.check_free(inputs.scenes.iter().map(name), ctx.overwrite)?;
    prepare_masks(&mut inputs.scenes, &options, &frame, ctx)?;
    let mut jobs = vec![];
    for scene in inputs.scenes {
        let (graph, node, notes) = plan_mask(&scene, &options, &frame)?;
        notes.into_iter().for_each(|n| ctx.progress.note(n));
        jobs.push(SceneRaster {
            name: name(&scene),
            what: "mask",
            kind: Kind::Mask,
            plane_kind: PlaneKind::Flags { outside: Reasons::FILL.bits() },
            nodes: vec![node],
            infos: vec![BandInfo::new("mask", Unit::Flags)],
            steps: vec![mask_step(&options)],
            drop: Some(options.drop),
            why: args.why,
            graph,
            scene,
        });
    }
    write_scene_rasters(jobs, &naming, ctx)
}
