//! `calibrate`: counts to a quantity, a raster a scene.

use telechroma_core::method::{Target, plan_calibrated};
use telechroma_core::scene::{BandRole, Scene};
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_io::raster::description::{BandInfo, Kind};

use crate::campaign::roles;
use crate::commands::chain::{Out, Selection};
use crate::context::{Context, listed};
use crate::job::{SceneRaster, open_inputs, write_scene_rasters};
use crate::report::Report;

/// Turn counts into radiance or reflectance, one raster a scene
///
/// Example: telechroma calibrate scenes --to toa --out calibrated
#[derive(clap::Args)]
pub struct Args {
    /// Scenes or folders of scenes; @list.txt for a list
    #[arg(required = true, value_name = "SCENE")]
    pub inputs: Vec<String>,
    /// toa (reflectance; thermal bands as brightness temperature, K) or radiance (W m⁻² sr⁻¹ µm⁻¹)
    #[arg(long, value_name = "TARGET", default_value = "toa")]
    pub to: Target,
    /// Bands, in this order; default: all on the scene's grid
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    #[command(flatten)]
    pub selection: Selection,
    #[command(flatten)]
    pub out: Out,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let inputs = open_inputs(&listed(&args.inputs)?, &args.selection.filter(), &ctx.progress)?;
    let asked = roles(&args.bands)?;
    let mut jobs = vec![];
    for scene in inputs.scenes {
        let bands = if asked.is_empty() { on_grid(&scene) } else { asked.clone() };
        let (graph, planes) = plan_calibrated(&scene, &bands, args.to)?;
        let infos = planes
            .iter()
            .map(|(role, _, unit)| BandInfo {
                name: role.name().into(),
                unit: unit.label().into(),
                wavelength_nm: scene.band(*role).and_then(|b| b.wavelength).map(|w| w.0),
                formula: None,
            })
            .collect();
        jobs.push(SceneRaster {
            name: format!("{}_{}.tif", scene.id, args.to.name()),
            what: "calibrated",
            kind: Kind::Calibrated,
            plane_kind: PlaneKind::Values,
            nodes: planes.iter().map(|p| p.1).collect(),
            infos,
            steps: vec![format!("calibrate to {}", args.to.name())],
            drop: None,
            graph,
            scene,
        });
    }
    write_scene_rasters(jobs, &args.out.naming(&["tif", "tiff"]), ctx)
}

/// Bands that share the scene's grid.
fn on_grid(scene: &Scene) -> Vec<BandRole> {
    let mut roles: Vec<BandRole> =
        scene.bands.iter().filter(|b| scene.grid.offset_of(&b.source.spec().grid).is_ok()).map(|b| b.role).collect();
    roles.sort();
    roles
}
