//! `sensors`: the catalogue of sensors.

use serde_json::json;
use telechroma_core::sensor::{FlagDef, Layout, SensorDef, file_of, find, sensors};

use crate::commands::text::aligned;
use crate::context::Context;
use crate::report::Report;

/// Show the sensors that are built in
#[derive(clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(clap::Subcommand)]
enum What {
    /// All of them, a line each
    List,
    /// One: platforms, bands with roles and wavelengths, flags, source
    Show {
        /// Its id
        id: String,
        /// Print its file, as a start for an own one
        #[arg(long)]
        toml: bool,
    },
}

fn as_json(s: &SensorDef) -> serde_json::Value {
    json!({
        "id": s.id, "name": s.name, "source": s.source, "level": s.level,
        "platforms": s.platforms.iter().map(|p| &p.name).collect::<Vec<_>>(),
        "bands": s.bands.iter().map(|b| json!({
            "band": b.name(), "role": b.role, "from_nm": b.from_nm, "to_nm": b.to_nm, "effective_nm": b.effective_nm, "cell_m": b.cell_m,
            "level": b.level, "file": b.file, "number": b.band, "scale": b.scale, "offset": b.offset, "fill": b.fill, "valid": b.valid, "unit": b.unit().label(),
        })).collect::<Vec<_>>(),
        "flags": s.flags.iter().map(|f| json!({
            "plane": f.key, "rules": rules(f),
        })).collect::<Vec<_>>(),
    })
}

/// What a flag plane means, in words.
fn rules(f: &FlagDef) -> Vec<String> {
    let mut by_reason: Vec<(&str, Vec<String>)> = vec![];
    let mut add = |reason, what: String| match by_reason.iter_mut().find(|r| r.0 == reason) {
        Some(r) => r.1.push(what),
        None => by_reason.push((reason, vec![what])),
    };
    for b in &f.bits {
        let bits: Vec<String> = b.bit.iter().chain(&b.all).map(ToString::to_string).collect();
        add(&b.reason, format!("bit {}", bits.join(" with ")));
    }
    f.classes.iter().for_each(|c| add(&c.reason, format!("value {}", c.value)));
    let reason = f.reason.as_deref().unwrap_or("cloud");
    f.keep.iter().for_each(|k| add(reason, format!("all but {k}")));
    f.drop.iter().for_each(|k| add(reason, k.clone()));
    by_reason.iter().map(|(reason, what)| format!("{reason}: {}", what.join(", "))).collect()
}

fn as_text(s: &SensorDef) -> String {
    let platforms: Vec<&str> = s.platforms.iter().map(|p| p.name.as_str()).collect();
    let platforms = if platforms.is_empty() { "any" } else { &platforms.join(", ") };
    let mut t = format!("{}  {}\nplatforms  {platforms}\n\n", s.id, s.name);
    let mut rows = vec![["band", "role", "µm", "cell", "value"].map(String::from)];
    for b in &s.bands {
        let edges = b.edges().map_or("–".into(), |(a, z)| format!("{:.3}–{:.3}", a.0 / 1000.0, z.0 / 1000.0));
        let coded = match s.layout {
            Layout::Files => format!(
                "number x {}{}",
                b.scale,
                if b.offset == 0.0 { String::new() } else { format!(" + {}", b.offset) }
            ),
            Layout::Landsat | Layout::Sentinel2 => "by the metadata".into(),
        };
        let level = b.level.as_ref().map_or(String::new(), |l| format!(", {l} only"));
        rows.push([b.name(), b.role.clone(), edges, b.cell_m.map_or("–".into(), |m| format!("{m} m")), coded + &level]);
    }
    t += &aligned(&rows, &[]);
    for f in &s.flags {
        t += &format!("\nflags {}\n", f.key);
        rules(f).iter().for_each(|r| t += &format!("  {r}\n"));
    }
    t + &format!("\nsource  {}\n", s.source)
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::List if ctx.json => ctx.print_json(&sensors().iter().map(as_json).collect()),
        What::List => {
            let rows: Vec<[String; 2]> = sensors().iter().map(|s| [s.id.clone(), s.name.clone()]).collect();
            ctx.print(&aligned(&rows, &[]));
        }
        What::Show { id, toml } => {
            let s = find(&id)?;
            match (toml, ctx.json) {
                (true, _) => ctx.print(file_of(&id)?),
                (false, true) => ctx.print_json(&as_json(s)),
                (false, false) => ctx.print(&as_text(s)),
            }
        }
    }
    Ok(())
}
