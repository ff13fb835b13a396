//! `draw`: pictures of composites, scenes and layers.

mod plots;

use telechroma_core::method::BandChoice;
use telechroma_core::units::TemperatureUnit;
use telechroma_io::figure::Ramp;

use crate::campaign::roles;
use crate::commands::chain::{Chain, MaskArgs, Out, Selection, inputs_and_names, layers};
use crate::commands::plotted::PlotFileArgs;
use crate::commands::run::report;
use crate::context::{Context, listed};
use crate::job::{Job, Style, Wanted, draw_masks, execute, open_inputs, prepare_masks};
use crate::report::Report;

/// Draw a picture: a scene or composite in colours, or one layer with a legend
#[derive(clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(clap::Subcommand)]
enum What {
    /// Three bands as red, green and blue, stretched between percentiles
    ///
    /// Example: telechroma draw scene composite_2031-07.tif --bands nir,red,green --out july.png
    Scene(SceneArgs),
    /// One layer with colour ramp, legend and scale
    ///
    /// Example: telechroma draw map composite_2031-07.tif ndvi --plots fields.geojson --out ndvi.png
    Map(MapArgs),
    /// A scene with the reasons why cells are dropped over it, and their shares
    ///
    /// Example: telechroma draw mask scenes --find clouds,shadows --grow 30m --out masks
    Mask(MaskedArgs),
    Plots(plots::Args),
}

#[derive(clap::Args)]
struct MaskedArgs {
    /// Scenes or folders of scenes; @list.txt for a list
    #[arg(required = true, value_name = "SCENE")]
    inputs: Vec<String>,
    /// Three bands, as red, green, blue; default: natural colours, or what comes nearest
    #[arg(long, value_name = "R,G,B", value_delimiter = ',')]
    bands: Vec<String>,
    #[command(flatten)]
    mask: MaskArgs,
    #[command(flatten)]
    selection: Selection,
    #[command(flatten)]
    out: Out,
}

#[derive(clap::Args)]
struct SceneArgs {
    /// Composites or scenes
    #[arg(required = true, value_name = "INPUT")]
    inputs: Vec<String>,
    /// Three bands, as red, green, blue; default: natural colours, or what comes nearest
    #[arg(long, value_name = "R,G,B", value_delimiter = ',')]
    bands: Vec<String>,
    /// Percentiles that become black and full colour
    #[arg(long, value_name = "LOW,HIGH", default_value = "2,98", value_parser = percentiles)]
    stretch: (f64, f64),
    #[command(flatten)]
    page: PageArgs,
}

#[derive(clap::Args)]
struct MapArgs {
    /// Rasters or scenes, then the names of layers or indices; default: all layers of a raster
    #[arg(required = true, value_name = "INPUT… NAME")]
    words: Vec<String>,
    /// An own layer: 'name = formula'; may be repeated
    #[arg(long, value_name = "NAME = FORMULA")]
    formula: Vec<String>,
    /// Values of the legend's two ends; default: 1st to 99th percentile within the index's typical range
    #[arg(long, value_name = "LOW,HIGH", value_parser = range, allow_hyphen_values = true)]
    range: Option<(f64, f64)>,
    /// Colour ramp: burn, grey, heat, plants, slate, soil, water; default: the index's own
    #[arg(long, value_name = "NAME", value_parser = |t: &str| Ramp::find(t))]
    ramp: Option<&'static Ramp>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    unit: TemperatureUnit,
    #[command(flatten)]
    page: PageArgs,
}

#[derive(clap::Args)]
struct PageArgs {
    /// Title; default: the input's name
    #[arg(long)]
    title: Option<String>,
    #[command(flatten)]
    plots: PlotFileArgs,
    #[command(flatten)]
    chain: Chain,
    #[command(flatten)]
    out: Out,
}

/// Two numbers, the first smaller.
fn range(text: &str) -> Result<(f64, f64), String> {
    let two = text.split_once(',').and_then(|(a, b)| Some((a.trim().parse().ok()?, b.trim().parse().ok()?)));
    match two {
        Some((a, b)) if a < b && f64::is_finite(a) && f64::is_finite(b) => Ok((a, b)),
        _ => Err("write two numbers, the smaller first, such as 0,0.8".into()),
    }
}

fn percentiles(text: &str) -> Result<(f64, f64), String> {
    match range(text) {
        Ok((a, b)) if a >= 0.0 && b <= 100.0 => Ok((a, b)),
        _ => Err("write two percentiles from 0 to 100, such as 2,98".into()),
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::Scene(a) => scene(a, ctx),
        What::Map(a) => map(a, ctx),
        What::Plots(a) => plots::run(&a, ctx),
        What::Mask(a) => {
            let options = a.mask.options()?;
            let mut inputs = open_inputs(&listed(&a.inputs)?, &a.selection.filter()?, ctx)?;
            let frame = a.selection.frame.frame()?;
            prepare_masks(&mut inputs.scenes, &options, &frame, ctx)?;
            let asked = if a.bands.is_empty() { None } else { Some(roles(&a.bands)?) };
            draw_masks(&inputs.scenes, &options, &frame, asked.as_deref(), &a.out.naming(&["png"]), ctx)
        }
    }
}

fn scene(args: SceneArgs, ctx: &Context) -> Result<(), Report> {
    if !args.bands.is_empty() && args.bands.len() != 3 {
        return Err(Report::usage(format!(
            "--bands takes three bands, as red, green and blue; {} were given",
            args.bands.len()
        )));
    }
    let bands = match args.bands.as_slice() {
        [] => BandChoice::All,
        // other names may be layers of a raster
        three => roles(three).map_or(BandChoice::All, BandChoice::List),
    };
    let recipe = args.page.chain.recipe(vec![], bands, TemperatureUnit::K)?;
    let naming = args.page.out.naming(&["png"]);
    let mut job = args.page.chain.job("", &args.inputs, recipe, naming)?;
    job.wanted = Wanted { scene_pictures: true, ..Wanted::default() };
    job.style = Style { colours: args.bands, stretch: Some(args.stretch), ..Style::default() };
    draw(job, args.page, ctx)
}

fn map(args: MapArgs, ctx: &Context) -> Result<(), Report> {
    let (inputs, names) = inputs_and_names(&args.words);
    if inputs.is_empty() {
        return Err(Report::usage("no input: name a raster or scenes before the layers")
            .hint(format!("none of these exists as a file: {}", args.words.join(", "))));
    }
    let layers = layers(&names, &args.formula)?;
    let recipe = args.page.chain.recipe(layers, BandChoice::Needed, args.unit)?;
    let naming = args.page.out.naming(&["png"]);
    let mut job = args.page.chain.job("", &inputs, recipe, naming)?;
    job.wanted = Wanted { maps: true, ..Wanted::default() };
    job.style = Style { range: args.range, ramp: args.ramp, ..Style::default() };
    draw(job, args.page, ctx)
}

fn draw(mut job: Job, page: PageArgs, ctx: &Context) -> Result<(), Report> {
    let stem = |p: &std::path::PathBuf| p.file_stem().map_or(String::new(), |s| s.to_string_lossy().into_owned());
    job.name = page.title.unwrap_or_else(|| match job.inputs.as_slice() {
        [one] => stem(one),
        many => format!("{} and {} more", many.first().map(stem).unwrap_or_default(), many.len().saturating_sub(1)),
    });
    job.plots = page.plots.outlines(Default::default());
    page.chain.say(&job.inputs, ctx, &job);
    let done = execute(&job, ctx)?;
    report(&job, &done, ctx);
    Ok(())
}
