//! Lists in a file of a job folder, which are read up to a length.

use std::fmt;
use std::marker::PhantomData;

use serde::de::{self, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};

/// Reads a list of at most so many entries: a longer one takes no memory.
pub(super) fn at_most<'de, const MOST: usize, T, D>(from: D) -> Result<Vec<T>, D::Error>
where
    T: Deserialize<'de>,
    D: Deserializer<'de>,
{
    struct List<const MOST: usize, T>(PhantomData<T>);

    impl<'de, const MOST: usize, T: Deserialize<'de>> Visitor<'de> for List<MOST, T> {
        type Value = Vec<T>;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(f, "a list of at most {MOST} entries")
        }

        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Vec<T>, A::Error> {
            let mut all = Vec::new();
            while let Some(entry) = list.next_element()? {
                if all.len() == MOST {
                    return Err(de::Error::invalid_length(MOST + 1, &self));
                }
                all.push(entry);
            }
            Ok(all)
        }
    }

    from.deserialize_seq(List::<MOST, T>(PhantomData))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, Deserialize)]
    struct Short {
        #[serde(deserialize_with = "at_most::<3, _, _>")]
        list: Vec<u8>,
    }

    #[test]
    fn a_longer_list_is_an_error() {
        let read = |text: &str| serde_json::from_str::<Short>(text);
        let whole = read(r#"{"list":[1,2,3]}"#).unwrap();
        assert_eq!(whole.list, [1, 2, 3]);
        let error = read(r#"{"list":[1,2,3,4]}"#).unwrap_err().to_string();
        assert!(error.contains("a list of at most 3 entries"), "{error}");
    }
}
