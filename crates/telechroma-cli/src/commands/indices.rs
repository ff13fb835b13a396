//! `indices`: the catalogue, and what of it an input can give.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::index::{ASKED, INDICES, IndexDef, find, settings_of};
use telechroma_core::scene::BandRole;

use crate::context::Context;
use crate::job::{Filter, open_inputs};
use crate::report::Report;

/// Show the indices that are built in
#[derive(clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(clap::Subcommand)]
enum What {
    /// All of them, a line each
    ///
    /// Example: telechroma indices list --for scenes/one.tar
    List {
        /// A scene or raster: which can be computed of it, and what the others lack
        #[arg(long = "for", value_name = "INPUT")]
        input: Option<PathBuf>,
    },
    /// One: formula, bands, range, what it wants, and source
    Show {
        /// Its name
        name: String,
    },
}

fn bands(d: &IndexDef) -> Vec<&'static str> {
    d.bands().iter().map(|b| b.name()).collect()
}

fn as_json(d: &IndexDef) -> serde_json::Value {
    json!({
        "id": d.id, "name": d.name, "formula": d.formula, "unit": d.unit.label(), "typical": [d.typical.0, d.typical.1],
        "bands": bands(d), "wants": d.wants.text(), "asks": asks(d), "source": d.source,
    })
}

/// Numbers that the user must give.
fn asks(d: &IndexDef) -> Vec<&'static str> {
    ASKED.iter().map(|a| a.0).filter(|a| settings_of(d).iter().any(|s| s == a)).collect()
}

/// What an input holds: roles by name, and the wavelength of those that state it.
struct Has {
    name: String,
    bands: Vec<(String, Option<f64>)>,
}

impl Has {
    fn of(path: &std::path::Path, ctx: &Context) -> Result<Has, Report> {
        let inputs = open_inputs(&[path.into()], &Filter::default(), ctx)?;
        let um = |w: Option<telechroma_core::units::Nanometres>| w.map(|w| w.0 / 1000.0);
        Ok(match (inputs.scenes.first(), inputs.layers.first()) {
            (Some(s), _) => Has {
                name: s.id.clone(),
                bands: s.bands.iter().map(|b| (b.role.name().to_string(), um(b.wavelength))).collect(),
            },
            (None, Some(l)) => Has {
                name: l.name.clone(),
                bands: l.layers.iter().map(|l| (l.name.clone(), um(l.wavelength))).collect(),
            },
            (None, None) => return Err(Report::usage(format!("{}: holds no bands", path.display()))),
        })
    }

    fn band(&self, role: BandRole) -> Option<&(String, Option<f64>)> {
        role.met_by().find_map(|r| self.bands.iter().find(|b| b.0 == r.name()))
    }

    /// Why an index cannot be computed; none where it can.
    fn lacks(&self, d: &IndexDef) -> Option<String> {
        if self.bands.iter().any(|b| b.0 == d.id) {
            return None; // delivered as it is
        }
        let missing: Vec<&str> = d.bands().into_iter().filter(|r| self.band(*r).is_none()).map(|r| r.name()).collect();
        if !missing.is_empty() {
            return Some(format!("lacks {}", missing.join(", ")));
        }
        d.valid.iter().find_map(|(name, (from, to))| {
            let (_, um) = self.band(BandRole::from_name(name)?)?;
            um.filter(|um| um < from || um > to).map(|um| format!("holds for {name} at {from}-{to} µm, not {um:.2} µm"))
        })
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::List { input: Some(path) } => {
            let has = Has::of(&path, ctx)?;
            ctx.progress.clear();
            let (can, cannot): (Vec<&IndexDef>, Vec<&IndexDef>) = INDICES.iter().partition(|d| has.lacks(d).is_none());
            if ctx.json {
                let cannot: Vec<_> =
                    cannot.iter().map(|d| json!({"id": d.id, "why": has.lacks(d).unwrap_or_default()})).collect();
                let can: Vec<_> = can.iter().map(|d| json!({"id": d.id, "asks": asks(d)})).collect();
                ctx.print_json(&json!({"input": has.name, "can": can, "cannot": cannot}));
                return Ok(());
            }
            let wide = INDICES.iter().map(|d| d.id.len()).max().unwrap_or(0);
            let mut t = format!("{}\n\n{} of {} can be computed\n", has.name, can.len(), INDICES.len());
            for d in can {
                let asks = asks(d);
                let note = if asks.is_empty() { String::new() } else { format!("; give {}", asks.join(", ")) };
                t += &format!("  {:wide$}  {}{note}\n", d.id, d.name);
            }
            if !cannot.is_empty() {
                t += &format!("\n{} cannot\n", cannot.len());
            }
            for d in cannot {
                t += &format!("  {:wide$}  {}\n", d.id, has.lacks(d).unwrap_or_default());
            }
            ctx.print(&t);
        }
        What::List { input: None } if ctx.json => ctx.print_json(&INDICES.iter().map(as_json).collect()),
        What::List { input: None } => {
            let wide = INDICES.iter().map(|d| d.id.len()).max().unwrap_or(0);
            let name = INDICES.iter().map(|d| d.name.chars().count()).max().unwrap_or(0);
            let line = |d: &IndexDef| format!("{:wide$}  {:name$}  {}\n", d.id, d.name, bands(d).join(", "));
            ctx.print(&INDICES.iter().map(line).collect::<String>());
        }
        What::Show { name } => {
            let d = find(&name)?;
            match ctx.json {
                true => ctx.print_json(&as_json(d)),
                false => {
                    let asks = asks(d);
                    ctx.print(&format!(
                        "{}  {}\nformula  {}\nbands    {}\n{}unit     {}\nrange    {} to {} (typical)\nwants    {}\nsource   {}\n",
                        d.id,
                        d.name,
                        d.formula,
                        bands(d).join(", "),
                        if asks.is_empty() { String::new() } else { format!("give     {}\n", asks.join(", ")) },
                        if d.unit.sign().is_empty() { "none" } else { d.unit.sign() },
                        d.typical.0,
                        d.typical.1,
                        d.wants.text(),
                        d.source
                    ));
                }
            }
        }
    }
    Ok(())
}
