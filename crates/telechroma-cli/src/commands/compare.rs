//! `compare`: what changed between two dates, composites or windows.

use std::path::{Path, PathBuf};

use jiff::civil::Date;
use telechroma_core::class::Classes;
use telechroma_core::method::{BandChoice, MEASURES, Target, find_measure, window};
use telechroma_core::units::TemperatureUnit;

use crate::commands::chain::{Chain, Out};
use crate::commands::classify::{ClassArgs, ClassPlots};
use crate::context::Context;
use crate::job::{ClassJob, How, classify, open_inputs};
use crate::report::Report;

/// Compare two dates, composites or windows of days: the change, its classes and their area
///
/// Example: telechroma compare before.tif after.tif --index nbr --as dnbr --scheme burn_severity --out burn
#[derive(clap::Args)]
pub struct Args {
    /// Two composites or two scenes, the earlier first; or scenes, with --before and --after
    #[arg(required = true, value_name = "BEFORE AFTER")]
    pub inputs: Vec<String>,
    /// The band or index that is compared
    #[arg(long, value_name = "NAME", default_value = "ndvi")]
    pub index: String,
    /// How: difference, relative, ratio; of nbr also dnbr, rdnbr, rbr
    #[arg(long = "as", value_name = "MEASURE")]
    pub measure: Option<String>,
    /// Of scenes: the earlier window of days, such as 2031-05-01..2031-06-30, a month or a day
    #[arg(long, value_name = "WINDOW", requires = "after")]
    pub before: Option<String>,
    /// Of scenes: the later window of days
    #[arg(long, value_name = "WINDOW", requires = "before")]
    pub after: Option<String>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    pub unit: TemperatureUnit,
    #[command(flatten)]
    pub classes: ClassArgs,
    #[command(flatten)]
    pub plots: ClassPlots,
    #[command(flatten)]
    pub chain: Chain,
    /// Folder of the results, or the one file of them that is wanted; default: the areas on standard output
    #[arg(long, value_name = "PATH")]
    pub out: Option<PathBuf>,
}

/// The two windows of days, where scenes are compared.
type Windows = Option<[(Date, Date); 2]>;

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let default = if args.index == "nbr" { "dnbr" } else { "difference" };
    let measure = find_measure(args.measure.as_deref().unwrap_or(default))?;
    let layer = measure.request(&args.index)?;
    let how = match args.classes.how()? {
        Some(how) => how,
        // gain and loss, whatever their size
        None => How::Given(Classes::between(
            &[f64::NEG_INFINITY, if measure.id == "ratio" { 1.0 } else { 0.0 }, f64::INFINITY],
            &["lower", "higher"].map(String::from),
        )?),
    };
    if measure.of == "nbr" {
        ctx.progress.say("water, shadows and clouds look like burns: mask them; severity is an initial assessment");
    }
    let mut recipe = args.chain.recipe(vec![layer], BandChoice::Needed, args.unit)?;
    let windows = windows(&args, ctx)?;
    let inputs = match windows {
        Some([before, after]) => {
            recipe.sides = vec![("before".into(), before), ("after".into(), after)];
            args.inputs.clone()
        }
        None => ["before", "after"].iter().zip(&args.inputs).map(|(side, path)| format!("{side}={path}")).collect(),
    };
    let writes = args.out.is_some();
    let naming = Out { out: args.out }.naming(&["tif", "tiff", "png", "csv"]);
    if matches!(recipe.target, Target::Radiance) {
        return Err(Report::usage("radiance of two dates is not compared: the sun stood differently"));
    }
    let mut job = args.chain.job("", &inputs, recipe, naming)?;
    job.name = measure.name.into();
    job.plots = args.plots.job();
    args.chain.say(&job.inputs, ctx, &job);
    let c = ClassJob { job, how, names: args.classes.names, colours: args.classes.colours, writes, change: true };
    classify(&c, ctx)
}

/// The windows of scenes: those asked for, or the days of two scenes; none where two rasters are compared.
fn windows(args: &Args, ctx: &Context) -> Result<Windows, Report> {
    if let (Some(before), Some(after)) = (&args.before, &args.after) {
        return Ok(Some([window(before)?, window(after)?]));
    }
    let known: Vec<&str> = MEASURES.iter().map(|m| m.id).collect();
    let [before, after] = args.inputs.as_slice() else {
        return Err(Report::usage(format!(
            "two inputs are compared, the earlier first; {} were given",
            args.inputs.len()
        ))
        .hint(format!(
            "scenes of two windows are told apart by --before and --after; measures: {}",
            known.join(", ")
        )));
    };
    let day = |path: &String| -> Result<Option<Date>, Report> {
        let inputs = open_inputs(&[Path::new(path).into()], &args.chain.selection.filter()?, ctx)?;
        match (inputs.scenes.as_slice(), inputs.layers.as_slice()) {
            ([], [_]) => Ok(None),
            ([one], []) => Ok(Some(one.date.ok_or_else(|| Report::usage(format!("{path}: the scene has no date")))?)),
            _ => Err(Report::usage(format!("{path}: is more than one scene or raster"))
                .hint("give one, or scenes with --before and --after")),
        }
    };
    match (day(before)?, day(after)?) {
        (None, None) => Ok(None),
        (Some(a), Some(b)) if a != b => Ok(Some([(a, a), (b, b)])),
        (Some(a), Some(_)) => Err(Report::usage(format!("both scenes are of {a}: there is nothing to compare"))),
        _ => Err(Report::usage(
            "a scene and a raster made earlier are not compared: make a composite of the scene first",
        )),
    }
}
