//! Signatures of tokens, checked by the library that checks those of TLS.

use jsonwebtoken::crypto::{CryptoProvider, JwtVerifier, KeyUtils};
use jsonwebtoken::errors::{Error, ErrorKind};
use jsonwebtoken::{Algorithm, DecodingKey, DecodingKeyKind};
use ring::signature as ring;
use signature::Verifier;

static PROVIDER: CryptoProvider = CryptoProvider {
    // Nothing is signed here.
    signer_factory: |_, _| Err(Error::from(ErrorKind::InvalidAlgorithm)),
    verifier_factory: verifier,
    key_utils: KeyUtils::new_unimplemented(),
};

/// Has tokens checked here, for the whole program.
pub fn install() {
    // Whoever came first has done it already.
    let _ = PROVIDER.install_default();
}

/// What a signature can be made with: never a secret that both sides know, which anybody could take a public key for.
pub const ALGORITHMS: [Algorithm; 9] = [
    Algorithm::RS256,
    Algorithm::RS384,
    Algorithm::RS512,
    Algorithm::PS256,
    Algorithm::PS384,
    Algorithm::PS512,
    Algorithm::ES256,
    Algorithm::ES384,
    Algorithm::EdDSA,
];

struct Check {
    algorithm: Algorithm,
    key: DecodingKey,
}

fn verifier(algorithm: &Algorithm, key: &DecodingKey) -> Result<Box<dyn JwtVerifier>, Error> {
    if algorithm.family() != key.family() {
        return Err(ErrorKind::InvalidKeyFormat.into());
    }
    Ok(Box::new(Check { algorithm: *algorithm, key: key.clone() }))
}

impl JwtVerifier for Check {
    fn algorithm(&self) -> Algorithm {
        self.algorithm
    }
}

impl Verifier<Vec<u8>> for Check {
    fn verify(&self, message: &[u8], signature: &Vec<u8>) -> Result<(), signature::Error> {
        let wrong = |_| signature::Error::new();
        match self.key.kind() {
            DecodingKeyKind::RsaModulusExponent { n, e } => {
                let method = rsa(self.algorithm).ok_or_else(signature::Error::new)?;
                ring::RsaPublicKeyComponents { n, e }.verify(method, message, signature).map_err(wrong)
            }
            DecodingKeyKind::SecretOrDer(point) => {
                let method = curve(self.algorithm).ok_or_else(signature::Error::new)?;
                ring::UnparsedPublicKey::new(method, point).verify(message, signature).map_err(wrong)
            }
        }
    }
}

fn rsa(algorithm: Algorithm) -> Option<&'static ring::RsaParameters> {
    Some(match algorithm {
        Algorithm::RS256 => &ring::RSA_PKCS1_2048_8192_SHA256,
        Algorithm::RS384 => &ring::RSA_PKCS1_2048_8192_SHA384,
        Algorithm::RS512 => &ring::RSA_PKCS1_2048_8192_SHA512,
        Algorithm::PS256 => &ring::RSA_PSS_2048_8192_SHA256,
        Algorithm::PS384 => &ring::RSA_PSS_2048_8192_SHA384,
        Algorithm::PS512 => &ring::RSA_PSS_2048_8192_SHA512,
        _ => return None,
    })
}

fn curve(algorithm: Algorithm) -> Option<&'static dyn ring::VerificationAlgorithm> {
    Some(match algorithm {
        Algorithm::ES256 => &ring::ECDSA_P256_SHA256_FIXED,
        Algorithm::ES384 => &ring::ECDSA_P384_SHA384_FIXED,
        Algorithm::EdDSA => &ring::ED25519,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The keys and signatures that the standards have as examples: RFC 7515, A.2 and A.3, and RFC 8037, A.4.
    fn examples() -> [(Algorithm, DecodingKey, &'static str, &'static str); 3] {
        let n = "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyuXpoQ";
        let payload = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ";
        let of = |header: &str| -> &'static str { Box::leak(format!("{header}.{payload}").into_boxed_str()) };
        [
            (
                Algorithm::RS256,
                DecodingKey::from_rsa_components(n, "AQAB").unwrap(),
                of("eyJhbGciOiJSUzI1NiJ9"),
                "cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CUAr7t1dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_dO--xi12jzDwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQGe77Rw",
            ),
            (
                Algorithm::ES256,
                DecodingKey::from_ec_components(
                    "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
                    "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
                )
                .unwrap(),
                of("eyJhbGciOiJFUzI1NiJ9"),
                "DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q",
            ),
            (
                Algorithm::EdDSA,
                DecodingKey::from_ed_components("11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo").unwrap(),
                "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc",
                "hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg",
            ),
        ]
    }

    #[test]
    fn signatures_of_the_standards_hold_and_changed_ones_do_not() {
        install();
        let holds = |signature: &str, message: &str, key: &DecodingKey, algorithm| {
            jsonwebtoken::crypto::verify(signature, message.as_bytes(), key, algorithm).unwrap_or(false)
        };
        let all = examples();
        for (algorithm, key, message, signature) in &all {
            assert!(holds(signature, message, key, *algorithm), "{algorithm:?}");
            assert!(!holds(signature, &format!("{message}A"), key, *algorithm), "{algorithm:?}: another message");
            assert!(
                !holds(&signature.replacen('h', "i", 1), message, key, *algorithm),
                "{algorithm:?}: another signature"
            );
            assert!(!holds("", message, key, *algorithm), "{algorithm:?}: none");
            for (_, other, ..) in all.iter().filter(|(a, ..)| a != algorithm) {
                assert!(!holds(signature, message, other, *algorithm), "{algorithm:?}: another key");
            }
            for wrong in [Algorithm::HS256, Algorithm::ES384, Algorithm::PS256] {
                assert!(!holds(signature, message, key, wrong), "{algorithm:?} as {wrong:?}");
            }
        }
    }
}
