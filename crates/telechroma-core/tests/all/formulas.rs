//! The formula language against an evaluator of its own, and against anything people may type.

use proptest::prelude::*;
use telechroma_core::Error;
use telechroma_core::index::{Program, parse};
use telechroma_testkit::names::NIR_RED;

/// A formula as text, and what it means.
#[derive(Debug, Clone)]
enum Tree {
    Number(f64),
    Red,
    Nir,
    Two(&'static str, Box<Tree>, Box<Tree>),
    Call(&'static str, Box<Tree>),
    Where(Box<Tree>, Box<Tree>, Box<Tree>),
}

impl Tree {
    fn text(&self) -> String {
        match self {
            Tree::Number(n) => format!("{n}"),
            Tree::Red => "red".into(),
            Tree::Nir => "nir".into(),
            Tree::Two(sign, a, b) => format!("({} {sign} {})", a.text(), b.text()),
            Tree::Call(name, a) => format!("{name}({})", a.text()),
            Tree::Where(a, c, b) => format!("({} where {} else {})", a.text(), c.text(), b.text()),
        }
    }

    /// A missing operand gives missing, and so does what is not finite.
    fn value(&self, red: f64, nir: f64) -> f64 {
        let truth = |b: bool| if b { 1.0 } else { 0.0 };
        let v = match self {
            Tree::Number(n) => *n,
            Tree::Red => red,
            Tree::Nir => nir,
            Tree::Two(sign, a, b) => {
                let (a, b) = (a.value(red, nir), b.value(red, nir));
                if a.is_nan() || b.is_nan() {
                    return f64::NAN;
                }
                match *sign {
                    "+" => a + b,
                    "-" => a - b,
                    "*" => a * b,
                    "/" if b == 0.0 => f64::NAN,
                    "/" => a / b,
                    "^" => a.powf(b),
                    "<" => truth(a < b),
                    ">=" => truth(a >= b),
                    "=" => truth(a == b),
                    "and" => truth(a != 0.0 && b != 0.0),
                    _ => truth(a != 0.0 || b != 0.0),
                }
            }
            Tree::Call(name, a) => {
                let a = a.value(red, nir);
                match *name {
                    "abs" => a.abs(),
                    "sqrt" => a.sqrt(),
                    "exp" => a.exp(),
                    _ => a.floor(),
                }
            }
            Tree::Where(a, c, b) => match c.value(red, nir) {
                c if c.is_nan() => f64::NAN,
                0.0 => b.value(red, nir),
                _ => a.value(red, nir),
            },
        };
        if v.is_finite() { v } else { f64::NAN }
    }
}

fn trees() -> impl Strategy<Value = Tree> {
    let leaf = prop_oneof![(0u32..40).prop_map(|n| Tree::Number(f64::from(n) / 8.0)), Just(Tree::Red), Just(Tree::Nir)];
    leaf.prop_recursive(5, 40, 3, |inner| {
        let two = prop::sample::select(vec!["+", "-", "*", "/", "^", "<", ">=", "=", "and", "or"]);
        let call = prop::sample::select(vec!["abs", "sqrt", "exp", "floor"]);
        prop_oneof![
            4 => (two, inner.clone(), inner.clone()).prop_map(|(s, a, b)| Tree::Two(s, Box::new(a), Box::new(b))),
            1 => (call, inner.clone()).prop_map(|(n, a)| Tree::Call(n, Box::new(a))),
            1 => (inner.clone(), inner.clone(), inner).prop_map(|(a, c, b)| Tree::Where(Box::new(a), Box::new(c), Box::new(b))),
        ]
    })
}

proptest! {
    #[test]
    fn any_formula_means_what_it_says(tree in trees(), red in prop_oneof![Just(f64::NAN), -2.0..2.0f64], nir in prop_oneof![Just(0.0), -2.0..2.0f64]) {
        let program = Program::compile(&tree.text(), &NIR_RED).unwrap();
        let inputs: Vec<f64> = program.inputs().iter().map(|n| if n == "red" { red } else { nir }).collect();
        let (got, want) = (program.at(&inputs), tree.value(red, nir));
        let same = got.is_nan() && want.is_nan() || (got - want).abs() <= 1e-12 * want.abs().max(1.0);
        prop_assert!(same, "{}: {} {}", tree.text(), got, want);
    }

    #[test]
    fn anything_typed_gives_a_program_or_an_error_at_a_character(text in "[a-z0-9 .+*/^()<>=!,µ_-]{0,40}") {
        if let Err(e) = parse(&text) {
            match e {
                Error::Formula { at, .. } => prop_assert!(at <= text.len() && text.is_char_boundary(at)),
                other => prop_assert!(false, "{}", other),
            }
        }
        let _ = Program::compile(&text, &NIR_RED); // a message or a program, no panic
    }
}

#[test]
fn deep_nesting_is_refused_not_a_crash() {
    for deep in [
        "(".repeat(100_000),
        "-".repeat(100_000),
        "not ".repeat(100_000),
        "nir ^ ".repeat(100_000),
        "1 where ".repeat(10_000),
    ] {
        assert!(parse(&deep).is_err());
    }
}

#[test]
fn zero_to_a_negative_power_is_missing_and_so_is_what_is_made_of_it() {
    for (formula, missing) in
        [("nir ^ -1", true), ("(nir ^ -0.5) ^ -0.5", true), ("1 / exp(1000 + nir)", true), ("nir ^ 2", false)]
    {
        let value = Program::compile(formula, &NIR_RED).unwrap().at(&[0.0]);
        assert_eq!(value.is_nan(), missing, "{formula}: {value}");
    }
}
