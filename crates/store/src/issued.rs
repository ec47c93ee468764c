//! Certificates that were ordered, and the accounts that they were ordered with. What is secret in them comes here sealed.

use merismos_core::time::Wall;
use sqlx::Row;

use crate::{Store, StoreError};

/// A certificate as it was issued.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IssuedCertificate {
    /// Its name in the document.
    pub name: String,
    /// When it ends.
    pub not_after: Wall,
    /// The chain, in PEM.
    pub chain: String,
    /// Its private key, sealed.
    pub sealed: Vec<u8>,
}

impl Store {
    /// The account at an authority, sealed; none when there is none for this directory.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn authority_account(
        &self,
        name: &str,
        directory: &str,
    ) -> Result<Option<Vec<u8>>, StoreError> {
        let text = "SELECT sealed FROM authority_account WHERE name = ? AND directory = ?";
        let find = sqlx::query(text).bind(name).bind(directory);
        let row = self.call(find.fetch_optional(&self.pool)).await?;
        Ok(row.map(|row| row.try_get("sealed")).transpose()?)
    }

    /// Keeps the account at an authority; one that was kept for it before is forgotten.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_authority_account(
        &self,
        name: &str,
        directory: &str,
        sealed: &[u8],
    ) -> Result<(), StoreError> {
        let put = sqlx::query("REPLACE INTO authority_account (name, directory, sealed) VALUES (?, ?, ?)");
        self.call(put.bind(name).bind(directory).bind(sealed).execute(&self.pool)).await?;
        Ok(())
    }

    /// The newest certificate that was issued under a name.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn issued_certificate(&self, name: &str) -> Result<Option<IssuedCertificate>, StoreError> {
        let text = "SELECT not_after, chain, sealed FROM issued_certificate WHERE name = ?";
        let row = self.call(sqlx::query(text).bind(name).fetch_optional(&self.pool)).await?;
        let Some(row) = row else { return Ok(None) };
        Ok(Some(IssuedCertificate {
            name: name.to_owned(),
            not_after: Wall(row.try_get("not_after")?),
            chain: row.try_get("chain")?,
            sealed: row.try_get("sealed")?,
        }))
    }

    /// Keeps a certificate in place of the one before.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_issued_certificate(&self, issued: &IssuedCertificate) -> Result<(), StoreError> {
        let text = "REPLACE INTO issued_certificate (name, not_after, chain, sealed) VALUES (?, ?, ?, ?)";
        let put = sqlx::query(text).bind(&issued.name).bind(issued.not_after.0).bind(&issued.chain);
        self.call(put.bind(&issued.sealed).execute(&self.pool)).await?;
        Ok(())
    }
}
