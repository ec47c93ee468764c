//! The store on a real MariaDB.

mod away;
mod database;
mod kept;
