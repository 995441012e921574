//! How the sectors of a volume are encrypted: each by itself, with its place on the volume mixed in.

use aes::cipher::{
    Block, BlockCipher, BlockDecrypt, BlockDecryptMut, BlockEncrypt, BlockEncryptMut,
    BlockSizeUser, InnerIvInit, KeyInit, block_padding::NoPadding, consts::U16,
};
use aes::{Aes128, Aes256};

use super::diffuser;
use super::metadata::Method;

/// What the kinds of AES have in common.
trait Aes:
    BlockEncrypt + BlockDecrypt + BlockCipher + BlockSizeUser<BlockSize = U16> + KeyInit
{
}
impl Aes for Aes128 {}
impl Aes for Aes256 {}

/// To or from what is on the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    Decrypt,
    Encrypt,
}

/// Encrypts and decrypts sectors. What it keeps of the key is wiped when it is dropped.
pub(super) trait SectorCipher: Send + Sync {
    /// Changes whole sectors of `sector` bytes in place, the first of which lies at this byte of the volume.
    fn change(&self, bytes: &mut [u8], sector: usize, first_byte: u64, way: Way);
}

/// The cipher of this method; `None` where the key has not the length that the method wants.
pub(super) fn with_key(method: Method, key: &[u8]) -> Option<Box<dyn SectorCipher>> {
    match method {
        Method::Xts128 => xts::<Aes128>(key),
        Method::Xts256 => xts::<Aes256>(key),
        Method::Cbc128 => cbc::<Aes128>(key.get(..16)?, None),
        Method::Cbc256 => cbc::<Aes256>(key.get(..32)?, None),
        // The second half of such a key is for the diffuser; of each half as much is used as the method says.
        Method::Cbc128Diffuser => cbc::<Aes128>(key.get(..16)?, Some(key.get(32..48)?)),
        Method::Cbc256Diffuser => cbc::<Aes256>(key.get(..32)?, Some(key.get(32..64)?)),
        Method::Other(_) => None,
    }
}

fn xts<A: Aes + Send + Sync + 'static>(key: &[u8]) -> Option<Box<dyn SectorCipher>> {
    let half = A::key_size();
    let aes = |part: Option<&[u8]>| A::new_from_slice(part?).ok();
    let (data, tweak) = (aes(key.get(..half))?, aes(key.get(half..2 * half))?);
    Some(Box::new(Xts { data, tweak }))
}

fn cbc<A: Aes + Send + Sync + 'static>(
    key: &[u8],
    diffused_by: Option<&[u8]>,
) -> Option<Box<dyn SectorCipher>> {
    let aes = |key: &[u8]| A::new_from_slice(key).ok();
    Some(Box::new(Cbc {
        aes: aes(key)?,
        diffused_by: match diffused_by {
            Some(key) => Some(aes(key)?),
            None => None,
        },
    }))
}

/// AES-XTS (IEEE 1619); its unit is the number of the sector. A crate has it too, which goes block by block and is five
/// times slower than the processor; it judges this one in the test.
struct Xts<A: Aes> {
    data: A,
    tweak: A,
}

/// Times x, in the field that the mode reckons in.
fn times_x(tweak: u128) -> u128 {
    let carry = if tweak >> 127 == 1 { 0x87 } else { 0 };
    (tweak << 1) ^ carry
}

impl<A: Aes + Send + Sync> SectorCipher for Xts<A> {
    fn change(&self, bytes: &mut [u8], sector: usize, first_byte: u64, way: Way) {
        let mut blocks = vec![Block::<A>::default(); sector / 16];
        let mut tweaks = vec![0_u128; sector / 16];
        let numbers = first_byte / sector as u64..;
        for (bytes, number) in bytes.chunks_exact_mut(sector).zip(numbers) {
            let mut first = Block::<A>::from(u128::from(number).to_le_bytes());
            self.tweak.encrypt_block(&mut first);
            let mut next = u128::from_le_bytes(first.into());
            let (parts, _) = bytes.as_chunks_mut::<16>();
            for ((block, tweak), part) in blocks.iter_mut().zip(&mut tweaks).zip(&*parts) {
                *block = (u128::from_le_bytes(*part) ^ next).to_le_bytes().into();
                *tweak = next;
                next = times_x(next);
            }
            match way {
                Way::Decrypt => self.data.decrypt_blocks(&mut blocks),
                Way::Encrypt => self.data.encrypt_blocks(&mut blocks),
            }
            for ((block, tweak), part) in blocks.iter().zip(&tweaks).zip(parts) {
                *part = (u128::from_le_bytes((*block).into()) ^ tweak).to_le_bytes();
            }
        }
    }
}

/// AES-CBC in each sector, its start made from the sector's place in bytes; with the diffuser over it where there is
/// a key for that.
struct Cbc<A> {
    aes: A,
    diffused_by: Option<A>,
}

fn encrypted<A: Aes>(aes: &A, first_byte: u64, last: u8) -> Block<A> {
    let mut block = Block::<A>::default();
    block[..8].copy_from_slice(&first_byte.to_le_bytes());
    block[15] = last;
    aes.encrypt_block(&mut block);
    block
}

/// Mixes in what only the sector's place and the diffuser's key give.
fn mask<A: Aes>(aes: &A, first_byte: u64, bytes: &mut [u8]) {
    let halves = [
        encrypted(aes, first_byte, 0),
        encrypted(aes, first_byte, 0x80),
    ];
    let mask = halves.iter().flatten().cycle();
    for (byte, mask) in bytes.iter_mut().zip(mask) {
        *byte ^= mask;
    }
}

impl<A: Aes + Send + Sync> SectorCipher for Cbc<A> {
    fn change(&self, bytes: &mut [u8], sector: usize, first_byte: u64, way: Way) {
        let places = (first_byte..).step_by(sector);
        for (bytes, at) in bytes.chunks_exact_mut(sector).zip(places) {
            let start = encrypted(&self.aes, at, 0);
            match way {
                Way::Decrypt => {
                    let chain = cbc::Decryptor::inner_iv_init(&self.aes, &start);
                    // It fails only where the sector is not whole blocks, and `sector` is a power of two from 512 on.
                    chain.decrypt_padded_mut::<NoPadding>(bytes).ok();
                    if let Some(key) = &self.diffused_by {
                        diffuser::undo(bytes);
                        mask(key, at, bytes);
                    }
                }
                Way::Encrypt => {
                    if let Some(key) = &self.diffused_by {
                        mask(key, at, bytes);
                        diffuser::apply(bytes);
                    }
                    let chain = cbc::Encryptor::inner_iv_init(&self.aes, &start);
                    chain.encrypt_padded_mut::<NoPadding>(bytes, sector).ok();
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use xts_mode::{Xts128, get_tweak_default};

    use super::*;

    fn is_that_of_the_crate<A: Aes + Send + Sync + 'static>(
        method: Method,
        key: &[u8; 64],
        bytes: &[u8],
        sector: usize,
        first: u64,
    ) {
        let half = A::key_size();
        let aes = |part: &[u8]| A::new_from_slice(part).unwrap();
        let theirs = Xts128::new(aes(&key[..half]), aes(&key[half..2 * half]));
        let ours = with_key(method, key).unwrap();
        let (mut a, mut b) = (bytes.to_vec(), bytes.to_vec());
        theirs.encrypt_area(&mut a, sector, first.into(), get_tweak_default);
        ours.change(&mut b, sector, first * sector as u64, Way::Encrypt);
        assert!(a == b, "{method}");
        ours.change(&mut b, sector, first * sector as u64, Way::Decrypt);
        assert!(b == bytes, "{method}");
    }

    proptest! {
        #[test]
        fn xts_is_that_of_the_crate(
            key in any::<[u8; 64]>(),
            bytes in proptest::collection::vec(any::<u8>(), 8192),
            is_large in any::<bool>(),
            first in 0..1_u64 << 40,
        ) {
            let sector = if is_large { 4096 } else { 512 };
            is_that_of_the_crate::<Aes128>(Method::Xts128, &key, &bytes, sector, first);
            is_that_of_the_crate::<Aes256>(Method::Xts256, &key, &bytes, sector, first);
        }
    }

    #[test]
    fn a_key_that_is_too_short_is_refused() {
        for (method, len) in [
            (Method::Xts128, 31),
            (Method::Xts256, 63),
            (Method::Cbc128, 15),
            (Method::Cbc256, 31),
            (Method::Cbc128Diffuser, 47),
            (Method::Cbc256Diffuser, 63),
            (Method::Other(0x8100), 64),
        ] {
            assert!(with_key(method, &[7; 64][..len]).is_none(), "{method}");
            let is_known = !matches!(method, Method::Other(_));
            assert_eq!(with_key(method, &[7; 64]).is_some(), is_known, "{method}");
        }
    }
}
