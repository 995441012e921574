//! Runlists: where the clusters of a file lie.

use std::ops::Range;

/// A logical cluster number: counted from the start of the volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Lcn(pub u64);

/// A virtual cluster number: counted from the start of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Vcn(pub u64);

/// A stretch of clusters of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// First cluster in the file.
    pub vcn: Vcn,
    /// Number of clusters.
    pub clusters: u64,
    /// First cluster on the volume; `None` for a hole, which reads as zeros.
    pub lcn: Option<Lcn>,
}

impl Run {
    /// First cluster of the file after this run.
    pub(crate) fn end_vcn(&self) -> Vcn {
        Vcn(self.vcn.0.saturating_add(self.clusters))
    }

    /// True when this cluster of the file lies in this run.
    pub fn holds(&self, vcn: Vcn) -> bool {
        self.vcn <= vcn && vcn < self.end_vcn()
    }

    /// The clusters of the volume; none for a hole.
    pub(crate) fn volume_clusters(&self) -> Range<u64> {
        self.lcn.map_or(0..0, |Lcn(first)| {
            first..first.saturating_add(self.clusters)
        })
    }
}

/// Decodes a runlist that begins at file cluster `vcn`. `None` when it is damaged, ends too early,
/// or names clusters outside a volume of `volume_clusters`.
///
/// Each run is a header byte (low half: bytes of the length, high half: bytes of the signed distance
/// from the run before; no distance means a hole), then the two numbers. A zero header ends the list.
pub(super) fn decode(bytes: &[u8], mut vcn: Vcn, volume_clusters: u64) -> Option<Vec<Run>> {
    let mut runs = Vec::new();
    let mut rest = bytes;
    let mut lcn = 0i64;
    loop {
        let (&head, tail) = rest.split_first()?;
        if head == 0 {
            return Some(runs);
        }
        let (len_size, lcn_size) = (usize::from(head & 0x0F), usize::from(head >> 4));
        if !(1..=8).contains(&len_size) || lcn_size > 8 {
            return None;
        }
        let (len_bytes, tail) = tail.split_at_checked(len_size)?;
        let (lcn_bytes, tail) = tail.split_at_checked(lcn_size)?;
        let clusters = u64::try_from(signed(len_bytes))
            .ok()
            .filter(|&clusters| clusters > 0)?;
        let place = if lcn_size == 0 {
            None
        } else {
            lcn = lcn.checked_add(signed(lcn_bytes))?;
            let first = u64::try_from(lcn).ok()?;
            first
                .checked_add(clusters)
                .filter(|&end| end <= volume_clusters)?;
            Some(Lcn(first))
        };
        runs.push(Run {
            vcn,
            clusters,
            lcn: place,
        });
        vcn = Vcn(vcn.0.checked_add(clusters)?);
        rest = tail;
    }
}

/// Encodes a runlist, with its zero header. The runs follow one another without a gap in the file.
pub(super) fn encode(runs: &[Run]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut before = 0i64;
    for run in runs {
        let len = shortest(i64::try_from(run.clusters).unwrap_or(i64::MAX));
        let place = run.lcn.map(|Lcn(lcn)| {
            let lcn = i64::try_from(lcn).unwrap_or(i64::MAX);
            let distance = lcn.saturating_sub(before);
            before = lcn;
            shortest(distance)
        });
        let place = place.unwrap_or_default();
        // Both lengths are at most 8.
        let head = (place.len() << 4) | len.len();
        bytes.push(u8::try_from(head).unwrap_or(0));
        bytes.extend(len);
        bytes.extend(place);
    }
    bytes.push(0);
    bytes
}

/// The shortest little-endian form of a signed number, one byte at least.
fn shortest(number: i64) -> Vec<u8> {
    let mut bytes = number.to_le_bytes().to_vec();
    while let [.., next, last] = bytes[..] {
        let fill = if next >= 0x80 { 0xFF } else { 0 };
        if last != fill {
            break;
        }
        bytes.pop();
    }
    bytes
}

/// Joins runs that follow one another in the file and on the volume.
pub(super) fn join(runs: impl IntoIterator<Item = Run>) -> Vec<Run> {
    let mut joined: Vec<Run> = Vec::new();
    for run in runs.into_iter().filter(|run| run.clusters > 0) {
        match joined.last_mut() {
            Some(last)
                if last.end_vcn() == run.vcn
                    && match (last.lcn, run.lcn) {
                        (None, None) => true,
                        (Some(Lcn(a)), Some(Lcn(b))) => a.checked_add(last.clusters) == Some(b),
                        _ => false,
                    } =>
            {
                last.clusters = last.clusters.saturating_add(run.clusters);
            }
            _ => joined.push(run),
        }
    }
    joined
}

/// A little-endian signed number of up to eight bytes.
fn signed(bytes: &[u8]) -> i64 {
    let fill = if bytes.last().is_some_and(|&byte| byte >= 0x80) {
        0xFF
    } else {
        0
    };
    let mut whole = [fill; 8];
    whole
        .iter_mut()
        .zip(bytes)
        .for_each(|(to, from)| *to = *from);
    i64::from_le_bytes(whole)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn runs_count_from_the_run_before() {
        let run = |vcn, clusters, lcn: Option<u64>| Run {
            vcn: Vcn(vcn),
            clusters,
            lcn: lcn.map(Lcn),
        };
        let bytes = [
            0x21, 0x18, 0x34, 0x56, 0x01, 0x10, 0x11, 0x04, 0xF0, 0x00, 0xAA,
        ];
        let runs = decode(&bytes, Vcn(5), 0x10000).unwrap();
        assert_eq!(
            runs,
            [
                run(5, 0x18, Some(0x5634)),
                run(29, 0x10, None),
                run(45, 4, Some(0x5624))
            ]
        );
        for (bad, why) in [
            (&[0x21, 0x18, 0x34][..], "cut off"),
            (&[0x11, 0x05, 0x10][..], "no end"),
            (&[0x11, 0x05, 0xF0, 0x00][..], "before the volume"),
            (&[0x11, 0x05, 0x7F, 0x00][..], "beyond the volume"),
            (&[0x11, 0x00, 0x01, 0x00][..], "no clusters"),
            (
                &[0x19, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0][..],
                "length of nine bytes",
            ),
        ] {
            assert_eq!(decode(bad, Vcn(0), 0x80), None, "{why}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]
        #[test]
        fn what_is_encoded_is_decoded(
            runs in prop::collection::vec((1u64..1 << 40, prop::option::of(0u64..1 << 45)), 0..20),
        ) {
            let mut vcn = 7;
            let runs: Vec<Run> = runs
                .into_iter()
                .map(|(clusters, lcn)| {
                    let run = Run { vcn: Vcn(vcn), clusters, lcn: lcn.map(Lcn) };
                    vcn += clusters;
                    run
                })
                .collect();
            prop_assert_eq!(decode(&encode(&runs), Vcn(7), 1 << 46), Some(runs));
        }

        #[test]
        fn any_bytes_are_refused_or_stay_inside(bytes in prop::collection::vec(any::<u8>(), 0..64), size in 1u64..1 << 40) {
            for run in decode(&bytes, Vcn(0), size).unwrap_or_default() {
                prop_assert!(run.volume_clusters().end <= size);
            }
        }
    }
}
