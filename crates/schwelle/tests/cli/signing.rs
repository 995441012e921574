//! Keys, certificates and signatures for the tests, made by the tools that others sign with.

use std::fs;
use std::path::{Path, PathBuf};

use uuid::Uuid;

use crate::support::Lab;
use schwelle_testkit::tool;

/// The distribution's key for tests; its password is its name.
const TEST_KEY: &str = "/usr/share/ovmf/PkKek-1-snakeoil";
/// Whose the signatures in a list are.
pub(crate) const OWNER: Uuid = Uuid::nil();

/// The key in files that the signing tool takes: key, certificate (PEM), certificate (DER).
pub(crate) fn test_key(lab: &Lab) -> [PathBuf; 3] {
    let (key, der) = (lab.path("test.key"), lab.path("test.der"));
    let (key_text, der_text) = (key.to_str().unwrap(), der.to_str().unwrap());
    let secret = format!("{TEST_KEY}.key");
    let certificate = format!("{TEST_KEY}.pem");
    tool(
        "openssl",
        &[
            "rsa",
            "-in",
            &secret,
            "-passin",
            "pass:snakeoil",
            "-out",
            key_text,
        ],
    );
    tool(
        "openssl",
        &[
            "x509",
            "-in",
            &certificate,
            "-outform",
            "DER",
            "-out",
            der_text,
        ],
    );
    [key, certificate.into(), der]
}

/// Makes a key with a certificate, by another one or by itself.
pub(crate) fn issue(
    lab: &Lab,
    name: &str,
    subject: &str,
    is_ca: bool,
    by: Option<&[PathBuf; 3]>,
) -> [PathBuf; 3] {
    let file = |extension: &str| lab.path(&format!("{name}.{extension}"));
    let paths = ["key", "pem", "der", "csr", "ext"].map(file);
    let [key, pem, der, request, extensions] = &paths;
    let text = |path: &PathBuf| path.to_str().unwrap().to_owned();
    fs::write(
        extensions,
        format!(
            "basicConstraints=CA:{}\n",
            if is_ca { "TRUE" } else { "FALSE" }
        ),
    )
    .unwrap();
    let new = [
        "req", "-new", "-newkey", "rsa:2048", "-nodes", "-subj", subject,
    ];
    tool(
        "openssl",
        &[&new[..], &["-keyout", &text(key), "-out", &text(request)]].concat(),
    );
    let make = [
        "x509",
        "-req",
        "-sha256",
        "-days",
        "3650",
        "-in",
        &text(request),
        "-out",
        &text(pem),
    ];
    let by = match by {
        Some([key, pem, _]) => vec![
            "-CA".to_owned(),
            text(pem),
            "-CAkey".to_owned(),
            text(key),
            "-CAcreateserial".to_owned(),
        ],
        None => vec!["-signkey".to_owned(), text(key)],
    };
    let by: Vec<&str> = by.iter().map(String::as_str).collect();
    tool(
        "openssl",
        &[&make[..], &["-extfile", &text(extensions)], &by].concat(),
    );
    tool(
        "openssl",
        &[
            "x509",
            "-in",
            &text(pem),
            "-outform",
            "DER",
            "-out",
            &text(der),
        ],
    );
    [key.clone(), pem.clone(), der.clone()]
}

/// Signs a program; what it is signed with already stays.
pub(crate) fn sign(lab: &Lab, key: &[PathBuf; 3], program: &[u8]) -> Vec<u8> {
    sign_with(lab, key, None, program)
}

/// The same, with the issuer's certificate in the signature.
pub(crate) fn sign_with(
    lab: &Lab,
    [key, certificate, _]: &[PathBuf; 3],
    issuer: Option<&[PathBuf; 3]>,
    program: &[u8],
) -> Vec<u8> {
    let (plain, signed) = (lab.path("plain.efi"), lab.path("signed.efi"));
    fs::write(&plain, program).unwrap();
    let path = |path: &Path| path.to_str().unwrap().to_owned();
    let (key, certificate, output) = (path(key), path(certificate), path(&signed));
    let mut args = vec!["--key", &key, "--cert", &certificate, "--output", &output];
    let issuer = issuer.map(|[_, issuer, _]| path(issuer));
    args.extend(issuer.iter().flat_map(|issuer| ["--addcert", issuer]));
    let plain = path(&plain);
    args.push(&plain);
    tool("sbsign", &args);
    fs::read(signed).unwrap()
}

/// The hash of a program as the signing tool computes it.
pub(crate) fn image_hash(lab: &Lab, program: &[u8]) -> Vec<u8> {
    let (file, list) = (lab.path("hashed.efi"), lab.path("hashed.list"));
    fs::write(&file, program).unwrap();
    let paths = [file.to_str().unwrap(), list.to_str().unwrap()];
    tool("hash-to-efi-sig-list", &paths);
    let list = fs::read(list).unwrap();
    list[list.len() - 32..].to_vec()
}

/// A signature list with one signature.
pub(crate) fn list(kind: Uuid, signature: &[u8]) -> Vec<u8> {
    let each = u32::try_from(signature.len() + 16).unwrap();
    let mut list = kind.to_bytes_le().to_vec();
    for field in [28 + each, 0, each] {
        list.extend(field.to_le_bytes());
    }
    list.extend(OWNER.to_bytes_le());
    list.extend(signature);
    list
}

/// The hash of the signed part of a certificate.
pub(crate) fn signed_part_hash(lab: &Lab, der: &[u8]) -> Vec<u8> {
    // The signed part is the first element of the outer sequence; both have lengths of two bytes.
    assert_eq!((der[0], der[1], der[4], der[5]), (0x30, 0x82, 0x30, 0x82));
    let len = usize::from(der[6]) * 256 + usize::from(der[7]) + 4;
    let (part, hash) = (lab.path("part"), lab.path("part.hash"));
    fs::write(&part, &der[4..4 + len]).unwrap();
    let output = hash.to_str().unwrap();
    tool(
        "openssl",
        &[
            "dgst",
            "-sha256",
            "-binary",
            "-out",
            output,
            part.to_str().unwrap(),
        ],
    );
    let mut hash = fs::read(hash).unwrap();
    hash.extend([0; 16]);
    hash
}
