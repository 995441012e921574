//! The disk as a bar in proportion: each part by its own letter, so that it reads without colour.

use schwelle_core::draft::{Change, MapPart};
use schwelle_core::profile::Role;

use crate::screen::{Tone, toned};

/// A part takes two columns at least, however small it is.
const MIN_COLUMNS: usize = 2;
/// A gap below this share of the disk (1/256) is alignment, not space: it gets no place in the bar.
const SMALL_GAP: u64 = 256;

fn letter(part: &MapPart) -> char {
    match part.role {
        None => '.',
        Some(Role::Esp) => 'E',
        Some(Role::Boot) => 'B',
        Some(Role::Windows) => 'W',
        Some(Role::Recovery) => 'R',
        Some(Role::Reserved) => 'm',
        Some(Role::Data) => 'D',
    }
}

fn tone(part: &MapPart) -> Tone {
    match (part.role, part.change) {
        (_, Change::New | Change::Filled | Change::Retyped) => Tone::Good,
        (None, _) => Tone::Faint,
        (Some(Role::Windows), _) => Tone::Heading,
        _ => Tone::Open,
    }
}

/// The bar, `columns` wide: `|BB|WWWWWW|EEE|......|`.
pub(crate) fn bar(parts: &[MapPart], columns: usize) -> String {
    let total: u64 = parts
        .iter()
        .map(|part| part.extent.sectors())
        .sum::<u64>()
        .max(1);
    let shown: Vec<&MapPart> = parts
        .iter()
        .filter(|part| part.number.is_some() || part.extent.sectors() > total / SMALL_GAP)
        .collect();
    let room = columns.saturating_sub(shown.len() + 1);
    let share = |part: &MapPart| {
        let exact = u128::from(part.extent.sectors()) * room as u128 / u128::from(total);
        usize::try_from(exact).unwrap_or(room).max(MIN_COLUMNS)
    };
    let mut widths: Vec<usize> = shown.iter().map(|part| share(part)).collect();
    // What the small ones take too much, or rounding left over, the widest gives or gets.
    let sum: usize = widths.iter().sum();
    if let Some(widest) = widths.iter_mut().max() {
        *widest = (*widest + room).saturating_sub(sum).max(MIN_COLUMNS);
    }
    let cells = shown
        .iter()
        .zip(widths)
        .map(|(part, width)| toned(tone(part), &letter(part).to_string().repeat(width)));
    format!("|{}|", cells.collect::<Vec<_>>().join("|"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use schwelle_core::device::{Extent, Lba};

    #[test]
    fn small_parts_stay_visible_and_the_bar_fills_its_columns() {
        let part = |first, end, role: Option<Role>| MapPart {
            number: role.map(|_| 1),
            extent: Extent {
                first: Lba(first),
                end: Lba(end),
            },
            kind: String::new(),
            role,
            label: String::new(),
            active: false,
            attributes: 0,
            change: Change::Kept,
        };
        let parts = [
            part(1, 2048, None),
            part(2048, 104_448, Some(Role::Boot)),
            part(104_448, 4_000_000_000, Some(Role::Windows)),
            part(4_000_000_000, 4_100_000_000, None),
        ];
        for columns in [40, 80, 160] {
            let bar = bar(&parts, columns);
            let plain: String = anstream::adapter::strip_str(&bar).to_string();
            assert_eq!(plain.len(), columns, "{plain}");
            assert!(plain.starts_with("|BB|WWW"), "{plain}");
        }
    }
}
