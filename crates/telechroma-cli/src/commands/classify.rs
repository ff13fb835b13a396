//! `classify`: a layer into classes, and the area of each.

use std::path::PathBuf;

use telechroma_core::class::{Classes, SCHEMES, find_scheme};
use telechroma_core::method::{BandChoice, Breaks};
use telechroma_core::plot::Weighting;
use telechroma_core::units::TemperatureUnit;
use telechroma_io::figure::Colour;

use crate::commands::chain::{Chain, Out, inputs_and_names, layers};
use crate::commands::plotted::PlotFileArgs;
use crate::context::Context;
use crate::job::{ClassJob, How, PlotJob, classify};
use crate::report::Report;

/// Put a layer into classes, and give the area of each
///
/// Example: telechroma classify composite_all.tif ndvi --breaks 0,0.2,0.5,1 --names bare,sparse,dense --out classes
#[derive(clap::Args)]
pub struct Args {
    /// A raster or scenes, then the layer or index where there are several
    #[arg(required = true, value_name = "INPUT… NAME")]
    pub words: Vec<String>,
    /// An own layer: 'name = formula'
    #[arg(long, value_name = "NAME = FORMULA")]
    pub formula: Vec<String>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    pub unit: TemperatureUnit,
    #[command(flatten)]
    pub classes: ClassArgs,
    #[command(flatten)]
    pub plots: ClassPlots,
    #[command(flatten)]
    pub chain: Chain,
    /// Folder of the results, or the one file of them that is wanted (.tif, .png, .csv); default: the areas on standard
    /// output and nothing else
    #[arg(long, value_name = "PATH")]
    pub out: Option<PathBuf>,
}

/// Where classes come from: one of these.
#[derive(clap::Args, Clone)]
pub struct ClassArgs {
    /// Breaks that rise; a class holds its lower break, the last class both; min and max stand for no limit
    #[arg(long, value_name = "LIST", value_delimiter = ',', allow_hyphen_values = true, help_heading = "Classes")]
    pub breaks: Vec<String>,
    /// So many classes of equal width, from the least to the greatest value
    #[arg(long, value_name = "N", help_heading = "Classes")]
    pub equal: Option<usize>,
    /// So many classes of equally many cells
    #[arg(long, value_name = "N", help_heading = "Classes")]
    pub quantiles: Option<usize>,
    /// Two classes, parted by the threshold that suits the values best (Otsu 1979)
    #[arg(long, help_heading = "Classes")]
    pub two: bool,
    /// With --two: leave out the lowest and highest thousandth when looking for the threshold
    #[arg(long, requires = "two", help_heading = "Classes")]
    pub trim: bool,
    /// Classes of the trade: burn_severity (of dnbr), open_water (of ndwi), snow (of ndsi)
    #[arg(long, value_name = "NAME", help_heading = "Classes")]
    pub scheme: Option<String>,
    /// Names of the classes, lowest first
    #[arg(long, value_name = "LIST", value_delimiter = ',', help_heading = "Classes")]
    pub names: Vec<String>,
    /// Colours of the classes, lowest first, such as '#a06030,#40a040'
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = colour, help_heading = "Classes")]
    pub colours: Vec<Colour>,
}

/// Plots whose classes are measured.
#[derive(clap::Args, Clone)]
pub struct ClassPlots {
    #[command(flatten)]
    pub file: PlotFileArgs,
    /// How cells on the edge count: share (exact covered share), centre, touch
    #[arg(long, value_name = "RULE", default_value = "share", help_heading = "Plots")]
    pub weight: Weighting,
}

impl ClassPlots {
    pub fn job(&self) -> Option<PlotJob> {
        self.file.outlines(self.weight)
    }
}

fn colour(text: &str) -> Result<Colour, String> {
    let wrong = || format!("'{text}' is no colour: write #rrggbb");
    let hex = text.trim().strip_prefix('#').filter(|h| h.len() == 6 && h.is_ascii()).ok_or_else(wrong)?;
    let part = |i: usize| u8::from_str_radix(&hex[i..i + 2], 16).map_err(|_| wrong());
    Ok([part(0)?, part(2)?, part(4)?])
}

impl ClassArgs {
    /// How classes are found; none where nothing was said.
    ///
    /// # Errors
    /// Where more than one way was named, or breaks do not rise.
    pub fn how(&self) -> Result<Option<How>, Report> {
        let ways =
            [!self.breaks.is_empty(), self.equal.is_some(), self.quantiles.is_some(), self.two, self.scheme.is_some()];
        if ways.iter().filter(|w| **w).count() > 1 {
            return Err(Report::usage("classes come from one of --breaks, --equal, --quantiles, --two and --scheme"));
        }
        let many = |n: usize| match n {
            1..=telechroma_core::class::MOST_CLASSES => Ok(n),
            _ => Err(Report::usage(format!("{n} classes: there may be 1 to {}", telechroma_core::class::MOST_CLASSES))),
        };
        let how = match (self.equal, self.quantiles, &self.scheme) {
            (Some(n), _, _) => How::Found(Breaks::Equal(many(n)?)),
            (_, Some(n), _) => How::Found(Breaks::Quantiles(many(n)?)),
            (_, _, Some(id)) => How::Given(find_scheme(id)?.classes()),
            _ if self.two => How::Found(Breaks::Otsu { trimmed: self.trim }),
            _ if self.breaks.is_empty() => return Ok(None),
            _ => {
                let at = |t: &String| match t.trim() {
                    "min" => Ok(f64::NEG_INFINITY),
                    "max" => Ok(f64::INFINITY),
                    n => n
                        .parse::<f64>()
                        .map_err(|_| Report::usage(format!("--breaks: '{n}' is neither a number nor min or max"))),
                };
                let breaks = self.breaks.iter().map(at).collect::<Result<Vec<_>, _>>()?;
                How::Given(Classes::between(&breaks, &self.names)?)
            }
        };
        if let (How::Given(classes), false) = (&how, self.colours.is_empty()) {
            classes.clone().coloured(&self.colours)?;
        }
        Ok(Some(how))
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let (inputs, names) = inputs_and_names(&args.words);
    if inputs.is_empty() {
        return Err(Report::usage("no input: name a raster or scenes before the layer")
            .hint(format!("none of these exists as a file: {}", args.words.join(", "))));
    }
    let schemes: Vec<&str> = SCHEMES.iter().map(|s| s.id).collect();
    let how = args.classes.how()?.ok_or_else(|| {
        Report::usage("no classes: give --breaks, --equal, --quantiles, --two or --scheme")
            .hint(format!("schemes: {}", schemes.join(", ")))
    })?;
    let layers = layers(&names, &args.formula)?;
    let recipe = args.chain.recipe(layers, BandChoice::Needed, args.unit)?;
    let writes = args.out.is_some();
    let naming = Out { out: args.out }.naming(&["tif", "tiff", "png", "csv"]);
    let mut job = args.chain.job("", &inputs, recipe, naming)?;
    job.name =
        job.inputs.first().and_then(|p| p.file_stem()).map_or(String::new(), |s| s.to_string_lossy().into_owned());
    job.plots = args.plots.job();
    args.chain.say(&job.inputs, ctx, &job);
    classify(
        &ClassJob { job, how, names: args.classes.names, colours: args.classes.colours, writes, change: false },
        ctx,
    )
}
