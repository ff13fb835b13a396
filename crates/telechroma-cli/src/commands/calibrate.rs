//! `calibrate`: counts to a quantity, a raster a scene.

use telechroma_core::method::plan_calibrated;
use telechroma_core::run::Observer;
use telechroma_core::scene::{BandRole, Content, Scene};
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_io::raster::description::{BandInfo, Kind};

use crate::campaign::roles;
use crate::commands::chain::{CalibrateArgs, Out, Selection};
use crate::context::{Context, listed};
use crate::job::{SceneRaster, calibrate_step, dark_text, open_inputs, prepare_bands, write_scene_rasters};
use crate::report::Report;

/// Turn counts into radiance or reflectance, one raster a scene
///
/// Example: telechroma calibrate scenes --to toa --out calibrated
#[derive(clap::Args)]
pub struct Args {
    /// Scenes or folders of scenes; @list.txt for a list
    #[arg(required = true, value_name = "SCENE")]
    pub inputs: Vec<String>,
    #[command(flatten)]
    pub calibrate: CalibrateArgs,
    /// Bands, in this order; default: all on the scene's grid
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    #[command(flatten)]
    pub selection: Selection,
    #[command(flatten)]
    pub out: Out,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let to = args.calibrate.target();
    let mut inputs = open_inputs(&listed(&args.inputs)?, &args.selection.filter()?, ctx)?;
    let frame = args.selection.frame.frame()?;
    let asked = roles(&args.bands)?;
    let mut jobs = vec![];
    let bands: Vec<BandRole> = match asked.is_empty() {
        true => BandRole::all().collect(),
        false => asked.clone(),
    };
    let light = args.calibrate.light()?;
    prepare_bands(&mut inputs.scenes, &bands, to, &light, ctx)?;
    for scene in inputs.scenes {
        let bands = if asked.is_empty() { on_grid(&scene) } else { asked.clone() };
        let (graph, planes, notes) = plan_calibrated(&scene, &bands, to, &frame)?;
        notes.into_iter().for_each(|n| ctx.progress.note(n));
        let infos = planes
            .iter()
            .map(|(role, _, unit)| BandInfo {
                wavelength_nm: scene.band(*role).and_then(|b| b.wavelength).map(|w| w.0),
                ..BandInfo::new(role.name(), *unit)
            })
            .collect();
        // what is calibrated already passes through, and is called so
        let passes = bands.iter().all(|r| scene.band(*r).is_some_and(|b| matches!(b.content, Content::Values(_))));
        let (name, step) = match passes {
            true => ("values", format!("values as delivered, level {}", scene.level)),
            false if to.is_surface() => {
                (to.name(), format!("{}; dark objects {}", calibrate_step(to, &light), dark_text(&scene.dark)))
            }
            false => (to.name(), calibrate_step(to, &light)),
        };
        jobs.push(SceneRaster {
            name: format!("{}_{name}.tif", scene.id),
            what: "calibrated",
            kind: Kind::Calibrated,
            plane_kind: PlaneKind::Values,
            nodes: planes.iter().map(|p| p.1).collect(),
            infos,
            steps: vec![step],
            drop: None,
            why: false,
            graph,
            scene,
        });
    }
    write_scene_rasters(jobs, &args.out.naming(&["tif", "tiff"]), ctx)
}

/// Bands whose cells are no finer than the scene's: those of pan are not thinned out unasked.
fn on_grid(scene: &Scene) -> Vec<BandRole> {
    let side = |g: &telechroma_core::grid::Grid| g.transform.determinant().abs();
    let kept = scene.bands.iter().filter(|b| side(&b.source.spec().grid) > 0.9 * side(&scene.grid));
    let mut roles: Vec<BandRole> = kept.map(|b| b.role).collect();
    roles.sort();
    roles.dedup();
    roles
}
