//! `sensors`: the catalogue of sensors.

use serde_json::json;
use telechroma_core::sensor::{SensorDef, find, sensors};

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
    },
}

fn as_json(s: &SensorDef) -> serde_json::Value {
    json!({
        "id": s.id, "name": s.name, "source": s.source,
        "platforms": s.platforms.iter().map(|p| &p.name).collect::<Vec<_>>(),
        "bands": s.bands.iter().map(|b| json!({
            "band": format!("B{}", b.key), "role": b.role, "from_nm": b.from_nm, "to_nm": b.to_nm, "effective_nm": b.effective_nm, "cell_m": b.cell_m,
        })).collect::<Vec<_>>(),
        "flags": s.flags.iter().map(|f| json!({
            "plane": f.key, "bits": f.bits.iter().map(|b| json!({"bit": b.bit, "reason": b.reason})).collect::<Vec<_>>(),
        })).collect::<Vec<_>>(),
    })
}

fn as_text(s: &SensorDef) -> String {
    let platforms: Vec<&str> = s.platforms.iter().map(|p| p.name.as_str()).collect();
    let mut t = format!(
        "{}  {}\nplatforms  {}\n\nband  role       µm                cell\n",
        s.id,
        s.name,
        platforms.join(", ")
    );
    for b in &s.bands {
        let edges = format!("{:.3}–{:.3}", b.from_nm / 1000.0, b.to_nm / 1000.0);
        t += &format!("{:4}  {:9}  {:16}  {} m\n", format!("B{}", b.key), b.role, edges, b.cell_m);
    }
    for f in &s.flags {
        let mut reasons: Vec<(&str, Vec<String>)> = vec![];
        for b in &f.bits {
            match reasons.iter_mut().find(|r| r.0 == b.reason) {
                Some(r) => r.1.push(b.bit.to_string()),
                None => reasons.push((&b.reason, vec![b.bit.to_string()])),
            }
        }
        let bits = |(reason, bits): &(&str, Vec<String>)| format!("{reason} {}", bits.join(" "));
        t += &format!("\nflags {}, bits: {}\n", f.key, reasons.iter().map(bits).collect::<Vec<_>>().join(", "));
    }
    t + &format!("\nsource  {}\n", s.source)
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::List if ctx.json => ctx.print_json(&sensors().iter().map(as_json).collect()),
        What::List => ctx.print(&sensors().iter().map(|s| format!("{}  {}\n", s.id, s.name)).collect::<String>()),
        What::Show { id } => {
            let s = find(&id)?;
            match ctx.json {
                true => ctx.print_json(&as_json(s)),
                false => ctx.print(&as_text(s)),
            }
        }
    }
    Ok(())
}
