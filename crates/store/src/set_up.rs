//! The database of a new installation: its roles, and the database itself.

use diesel::{ExpressionMethods as _, QueryDsl as _};
use diesel_async::{
    AsyncConnection as _, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection as _,
};

use crate::Result;
use crate::error::StoreError;

/// The role that owns the tables, and runs migrations.
pub const OWNER: &str = "jexlin_owner";
/// The role of the service, which owns nothing.
pub const SERVICE: &str = "jexlin_service";

/// The database.
pub const DATABASE: &str = "jexlin";

diesel::table! {
    pg_roles (rolname) {
        rolname -> diesel::sql_types::Text,
    }
}

diesel::table! {
    pg_database (datname) {
        datname -> diesel::sql_types::Text,
    }
}

/// Makes both roles and the database `jexlin`, with an administrator's connection. Nothing is made
/// where one of them is there already. The passwords are hexadecimal digits.
///
/// # Errors
/// [`StoreError::Broken`] with what is there, or the database's own words.
pub async fn set_up_database(
    administrator: &str,
    owner_password: &str,
    service_password: &str,
) -> Result<()> {
    let hexadecimal =
        |text: &str| text.len() >= 32 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    if !hexadecimal(owner_password) || !hexadecimal(service_password) {
        return Err(StoreError::Broken(
            "a password is too short or not hexadecimal".into(),
        ));
    }
    let mut conn = AsyncPgConnection::establish(administrator)
        .await
        .map_err(|error| StoreError::Unavailable(error.to_string()))?;
    let roles = pg_roles::table
        .filter(pg_roles::rolname.eq_any([OWNER, SERVICE]))
        .select(pg_roles::rolname);
    let databases = pg_database::table
        .filter(pg_database::datname.eq(DATABASE))
        .select(pg_database::datname);
    let mut there: Vec<String> = roles.load(&mut conn).await?;
    there.extend(databases.load::<String>(&mut conn).await?);
    if let Some(there) = there.pop() {
        return Err(StoreError::Broken(format!(
            "{there} exists already: this cluster has been set up before"
        )));
    }
    for (role, password) in [(OWNER, owner_password), (SERVICE, service_password)] {
        conn.batch_execute(&format!(
            "CREATE ROLE {role} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOBYPASSRLS PASSWORD '{password}'"
        ))
        .await?;
    }
    // What hangs is ended, so that it holds nothing for ever.
    conn.batch_execute(&format!(
        "ALTER ROLE {SERVICE} SET idle_in_transaction_session_timeout = '60s'; ALTER ROLE {SERVICE} SET statement_timeout = '60s'"
    ))
    .await?;
    conn.batch_execute(&format!("CREATE DATABASE {DATABASE} OWNER {OWNER}"))
        .await?;
    conn.batch_execute(&format!("REVOKE ALL ON DATABASE {DATABASE} FROM PUBLIC"))
        .await?;
    conn.batch_execute(&format!(
        "GRANT CONNECT ON DATABASE {DATABASE} TO {SERVICE}"
    ))
    .await?;
    Ok(())
}
