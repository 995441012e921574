//! The disk as a bar in proportion: each part by a pattern of its own, with its number and what it is
//! inside, so that it reads without colour. In block characters where the terminal has them.

use schwelle_core::draft::{Change, MapPart};
use schwelle_core::profile::Role;

use crate::screen::{Tone, toned};
use crate::text::width;

/// A part takes two columns at least, however small it is: a mark and a digit.
const MIN_COLUMNS: usize = 2;
/// A gap below this share of the disk (1/256) is alignment, not space: it gets no place in the bar.
const SMALL_GAP: u64 = 256;

/// A stretch of the bar: a part of the disk, or several that are too narrow to be distinguished.
#[derive(Debug, Clone)]
pub(crate) struct Cell {
    pub(crate) sectors: u64,
    /// The role's name, "unused", or "several".
    pub(crate) kind: String,
    /// What fills it: in 7 bits, and as a block character.
    patterns: [char; 2],
    /// What is written into it: in full, or where that is too long, in short.
    pub(crate) labels: [String; 2],
    tone: Tone,
}

/// A part of a disk, as far as a picture of it goes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stretch {
    /// Number in the table; `None` for an unused stretch.
    pub(crate) number: Option<usize>,
    pub(crate) sectors: u64,
    /// What it is for; `None` for an unused stretch.
    pub(crate) role: Option<Role>,
    /// What the job does with it.
    pub(crate) change: Change,
    pub(crate) active: bool,
}

impl From<&MapPart> for Stretch {
    fn from(part: &MapPart) -> Self {
        Self {
            number: part.number,
            sectors: part.extent.sectors(),
            role: part.role,
            change: part.change,
            active: part.active,
        }
    }
}

impl Stretch {
    /// Its mark: new or changed, smaller, active, or none.
    pub(crate) fn mark(&self) -> &'static str {
        match self.change {
            Change::Kept if self.active => "*",
            Change::Kept => "",
            Change::Smaller => "<",
            Change::New | Change::Filled | Change::Formatted | Change::Retyped => "+",
        }
    }

    fn cell(&self) -> Cell {
        let number = self
            .number
            .map_or(String::new(), |number| number.to_string());
        let mark = self.mark();
        let kind = self.role.map_or("unused", Role::name);
        let (patterns, tone) = match self.role {
            Some(Role::Esp) => (['=', '▒'], Tone::Open),
            Some(Role::Boot) => (['%', '▚'], Tone::Open),
            Some(Role::Windows) => (['#', '█'], Tone::Heading),
            Some(Role::Recovery) => (['~', '▞'], Tone::Open),
            Some(Role::Reserved) => ([',', '▖'], Tone::Open),
            Some(Role::Data) => (['o', '▓'], Tone::Open),
            None => (['.', '·'], Tone::Faint),
        };
        Cell {
            sectors: self.sectors,
            kind: kind.to_owned(),
            patterns,
            labels: [
                format!("{mark}{number} {kind}").trim_start().to_owned(),
                format!("{mark}{number}"),
            ],
            tone: if mark == "+" { Tone::Good } else { tone },
        }
    }
}

impl Cell {
    /// This one and the next, together.
    fn with(&self, next: &Self) -> Self {
        Self {
            sectors: self.sectors.saturating_add(next.sectors),
            kind: "several".to_owned(),
            patterns: ['"', '▌'],
            labels: [String::new(), String::new()],
            tone: Tone::Open,
        }
    }

    /// Filled to its width, the label in the middle of its pattern.
    fn fill(&self, columns: usize, draws: bool) -> String {
        let pattern = self.patterns[usize::from(draws)];
        let of_pattern = |count| pattern.to_string().repeat(count);
        let padded = [format!(" {} ", self.labels[0]), self.labels[1].clone()];
        let label = padded
            .into_iter()
            .zip(&self.labels)
            .find(|(padded, label)| !label.is_empty() && width(padded) <= columns)
            .map_or(String::new(), |(padded, _)| padded);
        let rest = columns - width(&label);
        format!(
            "{}{label}{}",
            of_pattern(rest - rest / 2),
            of_pattern(rest / 2)
        )
    }
}

/// The stretches of a disk with their shares of `room`, each of them `least` at least. Where there is no
/// room for all, neighbours are put together, the smallest first.
pub(crate) fn shares(
    parts: impl Iterator<Item = Stretch> + Clone,
    room: usize,
    least: usize,
) -> Vec<(Cell, usize)> {
    let sum = |all: u64, part: Stretch| all.saturating_add(part.sectors);
    let total: u64 = parts.clone().fold(0, sum);
    let mut cells: Vec<Cell> = parts
        .filter(|part| part.number.is_some() || part.sectors > total / SMALL_GAP)
        .map(|part| part.cell())
        .collect();
    while cells.len() > 1 && cells.len() * least > room {
        let sums = cells
            .windows(2)
            .map(|pair| pair[0].sectors.saturating_add(pair[1].sectors));
        let narrowest = sums.enumerate().min_by_key(|(_, sum)| *sum);
        let at = narrowest.map_or(0, |(at, _)| at);
        cells[at] = cells[at].with(&cells[at + 1]);
        cells.remove(at + 1);
    }
    let total = cells
        .iter()
        .fold(1_u64, |all, cell| all.saturating_add(cell.sectors));
    // Everybody gets the least; what is left is shared out by size, and the rest of that goes to the largest.
    let free = room.saturating_sub(cells.len() * least);
    let more = |cell: &Cell| {
        let exact = u128::from(cell.sectors) * free as u128 / u128::from(total);
        usize::try_from(exact).unwrap_or(free)
    };
    let mut columns: Vec<usize> = cells.iter().map(|cell| least + more(cell)).collect();
    let sum: usize = columns.iter().sum();
    if let Some(widest) = columns.iter_mut().max() {
        *widest = (*widest + room).saturating_sub(sum);
    }
    cells.into_iter().zip(columns).collect()
}

/// The bar, `columns` wide: `|%1|### 2 Windows ###|= +3 EFI system =|... unused ...|`.
pub(crate) fn bar(parts: &[MapPart], columns: usize, draws: bool) -> String {
    let line = if draws { "│" } else { "|" };
    // A line stands after each part: its columns are one more, and the first line is over.
    let shares = shares(
        parts.iter().map(Stretch::from),
        columns.saturating_sub(1),
        MIN_COLUMNS + 1,
    );
    let cells = shares
        .iter()
        .map(|(cell, columns)| toned(cell.tone, &cell.fill(columns - 1, draws)));
    format!("{line}{}{line}", cells.collect::<Vec<_>>().join(line))
}

#[cfg(test)]
mod tests {
    use super::*;
    use schwelle_core::device::{Extent, Lba};
    use schwelle_core::draft::Change;

    fn part(first: u64, end: u64, number: usize, role: Option<Role>, change: Change) -> MapPart {
        MapPart {
            number: role.map(|_| number),
            extent: Extent::between(Lba(first), Lba(end)),
            kind: String::new(),
            role,
            label: String::new(),
            active: false,
            attributes: 0,
            change,
        }
    }

    fn plain(parts: &[MapPart], columns: usize) -> String {
        anstream::adapter::strip_str(&bar(parts, columns, false)).to_string()
    }

    #[test]
    fn small_parts_stay_visible_and_the_bar_fills_its_columns() {
        let parts = [
            part(1, 2048, 0, None, Change::Kept),
            part(2048, 104_448, 1, Some(Role::Boot), Change::Kept),
            part(
                104_448,
                3_000_000_000,
                2,
                Some(Role::Windows),
                Change::Smaller,
            ),
            part(
                3_000_000_000,
                3_100_000_000,
                3,
                Some(Role::Esp),
                Change::New,
            ),
            part(3_100_000_000, 4_100_000_000, 0, None, Change::Kept),
        ];
        for columns in [40, 72, 152] {
            assert_eq!(plain(&parts, columns).len(), columns);
        }
        assert_eq!(
            plain(&parts, 72),
            "|%1|################# <2 Windows #################|=+3|.... unused ....|"
        );
        // The same in block characters, a column each.
        let drawn = bar(&parts, 72, true);
        let drawn = anstream::adapter::strip_str(&drawn).to_string();
        assert_eq!(width(&drawn), 72);
        assert_eq!(
            drawn,
            "│▚1│█████████████████ <2 Windows █████████████████│▒+3│···· unused ····│"
        );
    }

    #[test]
    fn what_cannot_be_told_apart_is_put_together() {
        let parts: Vec<MapPart> = (1..=128)
            .map(|n| {
                part(
                    n * 1000,
                    n * 1000 + 1000,
                    usize::try_from(n).unwrap(),
                    Some(Role::Data),
                    Change::Kept,
                )
            })
            .collect();
        for columns in [40, 72, 152, 400] {
            assert_eq!(plain(&parts, columns).len(), columns, "{columns}");
        }
        assert!(plain(&parts, 72).contains("|\"\"|"));
        assert_eq!(plain(&[], 10), "||");
    }
}
