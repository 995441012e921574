//! How the sectors of a volume are encrypted: each by itself, with its place on the volume mixed in.

use aes::cipher::{
    Block, BlockCipher, BlockDecrypt, BlockDecryptMut, BlockEncrypt, BlockEncryptMut,
    BlockSizeUser, InnerIvInit, KeyInit, block_padding::NoPadding, consts::U16,
};
use aes::{Aes128, Aes256};
use xts_mode::{Xts128, get_tweak_default};

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
        Method::Cbc128Diffuser => cbc::<Aes128>(key.get(..16)?, key.get(32..48)),
        Method::Cbc256Diffuser => cbc::<Aes256>(key.get(..32)?, key.get(32..64)),
        Method::Other(_) => None,
    }
}

fn xts<A: Aes + Send + Sync + 'static>(key: &[u8]) -> Option<Box<dyn SectorCipher>> {
    let half = A::key_size();
    let aes = |part: Option<&[u8]>| A::new_from_slice(part?).ok();
    let (data, tweak) = (aes(key.get(..half))?, aes(key.get(half..2 * half))?);
    Some(Box::new(Xts(Xts128::new(data, tweak))))
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

/// AES-XTS; its unit is the number of the sector.
struct Xts<A: Aes>(Xts128<A>);

impl<A: Aes + Send + Sync> SectorCipher for Xts<A> {
    fn change(&self, bytes: &mut [u8], sector: usize, first_byte: u64, way: Way) {
        let first = u128::from(first_byte / sector as u64);
        match way {
            Way::Decrypt => self.0.decrypt_area(bytes, sector, first, get_tweak_default),
            Way::Encrypt => self.0.encrypt_area(bytes, sector, first, get_tweak_default),
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
