//! `indices`: the catalogue.

use serde_json::json;
use telechroma_core::index::{INDICES, IndexDef, find};

use crate::context::Context;
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
    List,
    /// One: formula, bands, range and source
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
        "bands": bands(d), "source": d.source,
    })
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::List if ctx.json => ctx.print_json(&INDICES.iter().map(as_json).collect()),
        What::List => {
            let wide = INDICES.iter().map(|d| d.id.len()).max().unwrap_or(0);
            let name = INDICES.iter().map(|d| d.name.chars().count()).max().unwrap_or(0);
            let line = |d: &IndexDef| format!("{:wide$}  {:name$}  {}\n", d.id, d.name, bands(d).join(", "));
            ctx.print(&INDICES.iter().map(line).collect::<String>());
        }
        What::Show { name } => {
            let d = find(&name)?;
            match ctx.json {
                true => ctx.print_json(&as_json(d)),
                false => ctx.print(&format!(
                    "{}  {}\nformula  {}\nbands    {}\nunit     {}\nrange    {} to {} (typical)\nsource   {}\n",
                    d.id,
                    d.name,
                    d.formula,
                    bands(d).join(", "),
                    if d.unit.sign().is_empty() { "none" } else { d.unit.sign() },
                    d.typical.0,
                    d.typical.1,
                    d.source
                )),
            }
        }
    }
    Ok(())
}
