//! The small language for cells: text to a tree, with the place of every trouble.
//!
//! ```text
//! VALUE [where CONDITION [else OTHER]]      or  and  not      = != < <= > >=   in (a, b)      + -   * /   ^
//! ```

use crate::error::{Error, Result, nearest};

/// A node of the tree and where it starts in the text.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    /// Byte offset.
    pub at: usize,
    /// What it is.
    pub kind: ExprKind,
}

/// What a node is.
#[derive(Debug, Clone, PartialEq)]
pub enum ExprKind {
    /// A number; NaN for `missing`.
    Number(f64),
    /// A band, an index, or another formula.
    Name(String),
    /// `wavelength(band)`, micrometres.
    Wavelength(String),
    /// `radiance(band)`: of a black body that is as warm as the band says, W m⁻² sr⁻¹ µm⁻¹.
    Radiance(String),
    /// `kelvin(band, value)`: how warm a black body of that radiance is in the band.
    Kelvin(String, Box<Expr>),
    /// A function or operator of one, two or three operands.
    Call(Function, Vec<Expr>),
}

/// Functions and operators. Any missing operand gives missing, except in the tests for missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // each is its name
pub enum Function {
    Add,
    Subtract,
    Multiply,
    Divide,
    Power,
    Negate,
    Equal,
    Unequal,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    And,
    Or,
    Not,
    IsMissing,
    IsKnown,
    Where,
    Sqrt,
    Abs,
    Ln,
    Log10,
    Exp,
    Min,
    Max,
    Sin,
    Cos,
    Tan,
    Asin,
    Acos,
    Atan,
    Tanh,
    Floor,
    Ceil,
    Round,
    Clip,
    Bit,
}

/// Functions by the name they are called by, with the number of operands.
const FUNCTIONS: &[(&str, Function, usize)] = &[
    ("abs", Function::Abs, 1),
    ("acos", Function::Acos, 1),
    ("asin", Function::Asin, 1),
    ("atan", Function::Atan, 1),
    ("bit", Function::Bit, 2),
    ("ceil", Function::Ceil, 1),
    ("clip", Function::Clip, 3),
    ("cos", Function::Cos, 1),
    ("exp", Function::Exp, 1),
    ("floor", Function::Floor, 1),
    ("ln", Function::Ln, 1),
    ("log10", Function::Log10, 1),
    ("max", Function::Max, 2),
    ("min", Function::Min, 2),
    ("round", Function::Round, 1),
    ("sin", Function::Sin, 1),
    ("sqrt", Function::Sqrt, 1),
    ("tan", Function::Tan, 1),
    ("tanh", Function::Tanh, 1),
];

const WORDS: &[&str] = &["and", "else", "in", "missing", "not", "or", "where"];
/// Deeper nesting than any formula has; keeps hostile input from exhausting the stack.
const DEEPEST: usize = 64;

impl Expr {
    /// Every name used, in order of appearance; bands of `wavelength()` too.
    pub fn names(&self) -> Vec<String> {
        match &self.kind {
            ExprKind::Number(_) => vec![],
            ExprKind::Name(n) | ExprKind::Wavelength(n) | ExprKind::Radiance(n) => vec![n.clone()],
            ExprKind::Kelvin(n, value) => [vec![n.clone()], value.names()].concat(),
            ExprKind::Call(_, parts) => parts.iter().flat_map(Expr::names).collect(),
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
enum Token {
    Number(f64),
    Word(String),
    Sign(&'static str),
    End,
}

/// Reads a formula.
///
/// # Errors
/// [`Error::Formula`] with the place and what was expected.
pub fn parse(text: &str) -> Result<Expr> {
    let mut p = Parser { text, tokens: tokens(text)?, next: 0, depth: 0 };
    let e = p.whole()?;
    match p.peek() {
        Token::End => Ok(e),
        other => Err(p.wrong(&format!("expected an operator or the end, found {}", show(other)))),
    }
}

fn failed(text: &str, at: usize, message: impl Into<String>) -> Error {
    Error::Formula { formula: text.into(), at, message: message.into() }
}

fn tokens(text: &str) -> Result<Vec<(Token, usize)>> {
    const SIGNS: [&str; 15] = ["!=", "<=", ">=", "==", "+", "-", "*", "/", "^", "=", "<", ">", "(", ")", ","];
    let mut found = vec![];
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at..];
        if c.is_whitespace() {
            at += c.len_utf8();
        } else if c.is_ascii_digit() || (c == '.' && rest[1..].starts_with(|d: char| d.is_ascii_digit())) {
            let mut end = rest.find(|d: char| !(d.is_ascii_digit() || d == '.')).unwrap_or(rest.len());
            if rest[end..].starts_with(['e', 'E']) {
                let sign = usize::from(rest[end + 1..].starts_with(['+', '-']));
                let digits = rest[end + 1 + sign..].bytes().take_while(u8::is_ascii_digit).count();
                if digits > 0 {
                    end += 1 + sign + digits;
                }
            }
            let number =
                rest[..end].parse().map_err(|_| failed(text, at, format!("'{}' is not a number", &rest[..end])))?;
            found.push((Token::Number(number), at));
            at += end;
        } else if c.is_alphabetic() || c == '_' {
            let end = word_end(rest);
            found.push((Token::Word(rest[..end].into()), at));
            at += end;
        } else if let Some(sign) = SIGNS.iter().find(|s| rest.starts_with(**s)) {
            found.push((Token::Sign(if *sign == "==" { "=" } else { sign }), at));
            at += sign.len();
        } else {
            return Err(failed(text, at, format!("'{c}' means nothing in a formula")));
        }
    }
    found.push((Token::End, text.len()));
    Ok(found)
}

/// Where a word ends; a dot between two words joins an alias and what is meant of it.
fn word_end(rest: &str) -> usize {
    let plain = |t: &str| t.find(|d: char| !(d.is_alphanumeric() || d == '_')).unwrap_or(t.len());
    let end = plain(rest);
    match rest[end..].strip_prefix('.') {
        Some(more) if more.starts_with(|d: char| d.is_alphabetic() || d == '_') => end + 1 + plain(more),
        _ => end,
    }
}

fn show(t: &Token) -> String {
    match t {
        Token::Number(n) => format!("the number {n}"),
        Token::Word(w) => format!("'{w}'"),
        Token::Sign(s) => format!("'{s}'"),
        Token::End => "the end".into(),
    }
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<(Token, usize)>,
    next: usize,
    depth: usize,
}

impl Parser<'_> {
    fn peek(&self) -> &Token {
        &self.tokens[self.next].0
    }

    fn at(&self) -> usize {
        self.tokens[self.next].1
    }

    fn step(&mut self) -> Token {
        let t = self.peek().clone();
        self.next = (self.next + 1).min(self.tokens.len() - 1);
        t
    }

    fn wrong(&self, message: &str) -> Error {
        failed(self.text, self.at(), message)
    }

    fn takes(&mut self, want: &Token) -> bool {
        let is = self.peek() == want;
        if is {
            self.step();
        }
        is
    }

    fn word(&mut self, w: &str) -> bool {
        self.takes(&Token::Word(w.into()))
    }

    fn expect(&mut self, sign: &'static str) -> Result<()> {
        match self.takes(&Token::Sign(sign)) {
            true => Ok(()),
            false => Err(self.wrong(&format!("expected '{sign}', found {}", show(self.peek())))),
        }
    }

    fn call(at: usize, f: Function, parts: Vec<Expr>) -> Expr {
        Expr { at, kind: ExprKind::Call(f, parts) }
    }

    /// Everything, from `where` down; also what stands in brackets.
    fn whole(&mut self) -> Result<Expr> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.wrong("this formula is nested too deeply"));
        }
        let value = self.either()?;
        let e = if self.word("where") {
            let condition = self.either()?;
            let at = self.at();
            let other = match self.word("else") {
                true => self.whole()?,
                false => Expr { at, kind: ExprKind::Number(f64::NAN) },
            };
            Self::call(value.at, Function::Where, vec![value, condition, other])
        } else {
            value
        };
        self.depth -= 1;
        Ok(e)
    }

    fn either(&mut self) -> Result<Expr> {
        let mut left = self.both()?;
        while self.word("or") {
            left = Self::call(left.at, Function::Or, vec![left, self.both()?]);
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Expr> {
        let mut left = self.negated()?;
        while self.word("and") {
            left = Self::call(left.at, Function::And, vec![left, self.negated()?]);
        }
        Ok(left)
    }

    fn negated(&mut self) -> Result<Expr> {
        let at = self.at();
        let mut times = 0;
        while self.word("not") {
            times += 1;
        }
        let e = self.compared()?;
        Ok((0..times).fold(e, |e, _| Self::call(at, Function::Not, vec![e])))
    }

    fn compared(&mut self) -> Result<Expr> {
        let left = self.sum()?;
        let at = left.at;
        if self.word("in") {
            self.expect("(")?;
            let mut any: Option<Expr> = None;
            loop {
                let is = Self::call(at, Function::Equal, vec![left.clone(), self.sum()?]);
                any = Some(match any {
                    Some(a) => Self::call(at, Function::Or, vec![a, is]),
                    None => is,
                });
                if !self.takes(&Token::Sign(",")) {
                    break;
                }
            }
            self.expect(")")?;
            return any.ok_or_else(|| self.wrong("expected values in the list"));
        }
        let f = match self.peek() {
            Token::Sign("=") => Function::Equal,
            Token::Sign("!=") => Function::Unequal,
            Token::Sign("<") => Function::Less,
            Token::Sign("<=") => Function::LessEqual,
            Token::Sign(">") => Function::Greater,
            Token::Sign(">=") => Function::GreaterEqual,
            _ => return Ok(left),
        };
        self.step();
        if *self.peek() == Token::Word("missing".into()) && matches!(f, Function::Equal | Function::Unequal) {
            self.step();
            let f = if f == Function::Equal { Function::IsMissing } else { Function::IsKnown };
            return Ok(Self::call(at, f, vec![left]));
        }
        Ok(Self::call(at, f, vec![left, self.sum()?]))
    }

    fn sum(&mut self) -> Result<Expr> {
        let mut left = self.product()?;
        loop {
            let f = match self.peek() {
                Token::Sign("+") => Function::Add,
                Token::Sign("-") => Function::Subtract,
                _ => return Ok(left),
            };
            self.step();
            left = Self::call(left.at, f, vec![left, self.product()?]);
        }
    }

    fn product(&mut self) -> Result<Expr> {
        let mut left = self.signed()?;
        loop {
            let f = match self.peek() {
                Token::Sign("*") => Function::Multiply,
                Token::Sign("/") => Function::Divide,
                _ => return Ok(left),
            };
            self.step();
            left = Self::call(left.at, f, vec![left, self.signed()?]);
        }
    }

    fn signed(&mut self) -> Result<Expr> {
        let at = self.at();
        let mut minus = false;
        while matches!(self.peek(), Token::Sign("-" | "+")) {
            minus ^= self.step() == Token::Sign("-");
        }
        let mut e = self.atom()?;
        if self.takes(&Token::Sign("^")) {
            self.depth += 1;
            if self.depth > DEEPEST {
                return Err(self.wrong("this formula is nested too deeply"));
            }
            e = Self::call(e.at, Function::Power, vec![e, self.signed()?]);
            self.depth -= 1;
        }
        Ok(if minus { Self::call(at, Function::Negate, vec![e]) } else { e })
    }

    fn atom(&mut self) -> Result<Expr> {
        let at = self.at();
        match self.peek().clone() {
            Token::Number(n) => {
                self.step();
                Ok(Expr { at, kind: ExprKind::Number(n) })
            }
            Token::Sign("(") => {
                self.step();
                let e = self.whole()?;
                self.expect(")")?;
                Ok(e)
            }
            Token::Word(w) if w == "missing" => {
                self.step();
                Ok(Expr { at, kind: ExprKind::Number(f64::NAN) })
            }
            Token::Word(w) if !WORDS.contains(&w.as_str()) => {
                self.step();
                match self.takes(&Token::Sign("(")) {
                    true => self.function(&w, at),
                    false => Ok(Expr { at, kind: ExprKind::Name(w) }),
                }
            }
            other => Err(self.wrong(&format!("expected a value, found {}", show(&other)))),
        }
    }

    fn function(&mut self, name: &str, at: usize) -> Result<Expr> {
        if matches!(name, "wavelength" | "radiance" | "kelvin") {
            let Token::Word(band) = self.step() else {
                return Err(failed(self.text, at, format!("{name}() takes the name of a band")));
            };
            let kind = match name {
                "radiance" => ExprKind::Radiance(band),
                "wavelength" => ExprKind::Wavelength(band),
                _ => {
                    self.expect(",")?;
                    ExprKind::Kelvin(band, Box::new(self.whole()?))
                }
            };
            self.expect(")")?;
            return Ok(Expr { at, kind });
        }
        let Some((_, f, n)) = FUNCTIONS.iter().find(|f| f.0 == name) else {
            let names: Vec<&str> = FUNCTIONS.iter().map(|f| f.0).chain(["kelvin", "radiance", "wavelength"]).collect();
            let hint = nearest(name, &names)
                .map_or(format!("there are {}", names.join(", ")), |n| format!("did you mean '{n}'?"));
            return Err(failed(self.text, at, format!("unknown function '{name}': {hint}")));
        };
        let mut parts = vec![self.whole()?];
        while self.takes(&Token::Sign(",")) {
            parts.push(self.whole()?);
        }
        self.expect(")")?;
        let many = matches!(f, Function::Min | Function::Max) && parts.len() > 2;
        if parts.len() != *n && !many {
            return Err(failed(
                self.text,
                at,
                format!("{name}() takes {n} value{}, found {}", if *n == 1 { "" } else { "s" }, parts.len()),
            ));
        }
        if !many {
            return Ok(Self::call(at, *f, parts));
        }
        let mut parts = parts.into_iter();
        let first = parts.next().unwrap_or(Expr { at, kind: ExprKind::Number(f64::NAN) });
        Ok(parts.fold(first, |a, b| Self::call(at, *f, vec![a, b])))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn message(text: &str) -> String {
        parse(text).unwrap_err().to_string()
    }

    #[test]
    fn troubles_are_pointed_at() {
        assert_eq!(
            message("(nir - red / (nir + red)"),
            "expected ')', found the end\n  (nir - red / (nir + red)\n                          ^"
        );
        assert_eq!(message("nir * * red"), "expected a value, found '*'\n  nir * * red\n        ^");
        assert_eq!(message("sqr(nir)"), "unknown function 'sqr': did you mean 'sqrt'?\n  sqr(nir)\n  ^");
        assert_eq!(message("nir $ 2"), "'$' means nothing in a formula\n  nir $ 2\n      ^");
        assert_eq!(message("clip(nir, 1)"), "clip() takes 3 values, found 2\n  clip(nir, 1)\n  ^");
        assert!(message(&"(".repeat(500)).starts_with("this formula is nested too deeply"));
        assert!(message(&"2^".repeat(500)).starts_with("this formula is nested too deeply"));
    }

    proptest! {
        #[test]
        fn nothing_panics(text in "[-a-z0-9+*/^()<>=!,. $µ]{0,60}") {
            let _ = parse(&text);
        }
    }
}
