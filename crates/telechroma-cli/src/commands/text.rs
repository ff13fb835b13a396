//! Tables of plain text, and numbers as people read them.

/// Rows with their columns aligned; columns named in `right` to the right.
pub fn aligned<R: AsRef<[String]>>(rows: &[R], right: &[usize]) -> String {
    let columns = rows.iter().map(|r| r.as_ref().len()).max().unwrap_or(0);
    let width = |c: usize| rows.iter().filter_map(|r| r.as_ref().get(c)).map(|s| s.chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..columns).map(width).collect();
    let line = |row: &R| {
        let cell = |(c, s): (usize, &String)| {
            let pad = " ".repeat(widths[c] - s.chars().count());
            if right.contains(&c) { format!("{pad}{s}") } else { format!("{s}{pad}") }
        };
        let cells: Vec<String> = row.as_ref().iter().enumerate().map(cell).collect();
        format!("{}\n", cells.join("  ").trim_end())
    };
    rows.iter().map(line).collect()
}

/// Text in lines of at most so many characters, those after the first indented; words are never cut.
pub fn wrapped(text: &str, width: usize, indent: usize) -> String {
    let (mut out, mut used) = (String::new(), 0);
    for word in text.split(' ') {
        let n = word.chars().count();
        if used > 0 && used + 1 + n > width {
            out += &format!("\n{}", " ".repeat(indent));
            used = 0;
        } else if used > 0 {
            out.push(' ');
            used += 1;
        }
        out += word;
        used += n;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{aligned, wrapped};

    #[test]
    fn long_text_is_wrapped_between_words() {
        assert_eq!(wrapped("one two three", 7, 2), "one two\n  three");
        assert_eq!(wrapped("longerthanwide a", 4, 1), "longerthanwide\n a");
    }

    #[test]
    fn columns_line_up_whatever_their_letters() {
        let rows = [["µm", "1"].map(String::from), ["band", "22"].map(String::from)];
        assert_eq!(aligned(&rows, &[1]), "µm     1\nband  22\n");
    }
}
