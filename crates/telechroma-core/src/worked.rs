//! Numbers worked out by hand elsewhere, for tests: name, inputs, expected value, tolerance.

use serde_json::Value;

/// One worked example.
pub struct Example(Value);

/// The example of a name.
pub fn example(name: &str) -> Example {
    let all: Value = serde_json::from_str(include_str!("../tests/worked_examples.json")).expect("the file is JSON");
    let found = all.as_array().and_then(|a| a.iter().find(|e| e["name"] == name)).cloned();
    Example(found.unwrap_or_else(|| panic!("no worked example '{name}'")))
}

/// All examples whose name starts so.
pub fn starting_with(prefix: &str) -> Vec<Example> {
    let all: Value = serde_json::from_str(include_str!("../tests/worked_examples.json")).expect("the file is JSON");
    let list = all.as_array().expect("a list").iter();
    list.filter(|e| e["name"].as_str().is_some_and(|n| n.starts_with(prefix))).cloned().map(Example).collect()
}

fn real(v: &Value) -> f64 {
    v.as_f64().unwrap_or(f64::NAN) // null: missing
}

fn reals(v: &Value) -> Vec<f64> {
    v.as_array().expect("a list of numbers").iter().map(real).collect()
}

impl Example {
    /// Its name.
    pub fn name(&self) -> &str {
        self.0["name"].as_str().expect("a name")
    }
    /// Any part of it.
    pub fn value(&self, pointer: &str) -> &Value {
        self.0.pointer(pointer).unwrap_or(&Value::Null)
    }
    /// An input.
    pub fn number(&self, key: &str) -> f64 {
        let v = &self.0["inputs"][key];
        v.as_f64().unwrap_or_else(|| panic!("{}: no number '{key}'", self.name()))
    }
    /// A list input.
    pub fn numbers(&self, key: &str) -> Vec<f64> {
        reals(&self.0["inputs"][key])
    }
    /// The inputs that are numbers, by name.
    pub fn all_numbers(&self) -> Vec<(String, f64)> {
        let map = self.0["inputs"].as_object().expect("inputs");
        map.iter().filter_map(|(k, v)| v.as_f64().map(|n| (k.clone(), n))).collect()
    }
    /// The expected list.
    pub fn expected_numbers(&self) -> Vec<f64> {
        reals(&self.0["expected"])
    }
    /// The expected number under a key.
    pub fn expected(&self, key: &str) -> f64 {
        real(&self.0["expected"][key])
    }
    /// Compares with the one expected number.
    pub fn check(&self, got: f64) {
        self.check_one(got, real(&self.0["expected"]));
    }
    /// Compares with a number, within the example's tolerance.
    pub fn check_one(&self, got: f64, expected: f64) {
        let same = (got.is_nan() && expected.is_nan()) || (got - expected).abs() <= real(&self.0["tolerance"]);
        assert!(same, "{}: got {got}, expected {expected}", self.name());
    }
}
