//! Databases of tests, copied from ones that are made once.

use std::process::Command;

use sea_orm::{ConnectionTrait, Database as Connect};
use tokio::sync::Mutex;

use super::{Server, free_port, open_folder};

/// A database from which others are copied, prepared as the operator's file does it, and empty.
const PREPARED: &str = "pronoia_prepared";

/// Makes an empty database beside another, prepared for Pronoia's account; gives its address for that account.
pub async fn new_database(beside: &str) -> String {
    let admin = admin_of(beside);
    prepared(&admin).await;
    copied(&admin, PREPARED).await
}

/// The same with every table of this version.
pub async fn ready_database(beside: &str) -> String {
    static READY: Mutex<Vec<(String, String)>> = Mutex::const_new(Vec::new());
    let admin = admin_of(beside);
    let mut ready = READY.lock().await;
    let name = match ready.iter().find(|(server, _)| *server == admin) {
        Some((_, name)) => name.clone(),
        None => {
            let mut server = Server::over(new_database(beside).await, open_folder(), &[]).await;
            server.kill();
            server.nobody_is_connected().await;
            let name = server.database.rsplit_once('/').expect("a name").1.to_owned();
            ready.push((admin.clone(), name.clone()));
            name
        }
    };
    drop(ready);
    copied(&admin, &name).await
}

/// A copy of a database that nobody is connected to.
pub async fn copy_of(database: &str) -> String {
    copied(&admin_of(database), database.rsplit_once('/').expect("a name").1).await
}

/// The address of a server's superuser, without a database.
fn admin_of(beside: &str) -> String {
    beside.rsplit_once('/').expect("a database name").0.replacen("//pronoia_server:", "//pronoia:", 1)
}

async fn copied(admin: &str, from: &str) -> String {
    let name = format!("test_{}_{}", std::process::id(), free_port());
    let connection = Connect::connect(format!("{admin}/postgres")).await.expect("the database server");
    // What belongs to a database as a whole is not copied.
    for statement in [
        format!("CREATE DATABASE {name} TEMPLATE {from} OWNER pronoia_server"),
        format!("ALTER DATABASE {name} SET temp_file_limit = '512MB'"),
        format!("ALTER ROLE pronoia_server IN DATABASE {name} SET temp_file_limit = -1"),
        format!("REVOKE TEMPORARY ON DATABASE {name} FROM PUBLIC"),
    ] {
        connection.execute_unprepared(&statement).await.expect("a database");
    }
    format!("{}/{name}", admin.replacen("//pronoia:", "//pronoia_server:", 1))
}

/// Sees that a server has the database from which others are copied.
async fn prepared(admin: &str) {
    static DONE: Mutex<Vec<String>> = Mutex::const_new(Vec::new());
    let mut done = DONE.lock().await;
    if done.iter().any(|other| other == admin) {
        return;
    }
    let machine = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/machine.sh");
    // Of processes that come at once, one makes it.
    let commands = format!(
        "set -e; . {machine}; need_postgres; exec 9>\"${{TMPDIR:-/tmp}}/{PREPARED}.lock\"; flock 9; psql=\"$postgres_bin/psql\"; \
         [ -z \"$($psql \"$1/postgres\" -tAc \"SELECT 1 FROM pg_database WHERE datname = '{PREPARED}'\")\" ] || exit 0; \
         $psql \"$1/postgres\" -qc 'CREATE DATABASE {PREPARED}_made'; prepare_database \"$1/{PREPARED}_made\" \"$2\"; \
         $psql \"$1/postgres\" -qc 'ALTER DATABASE {PREPARED}_made RENAME TO {PREPARED}'"
    );
    let password = admin.rsplit_once('@').expect("an address").0.rsplit_once(':').expect("a password").1;
    let made = Command::new("bash").args(["-c", &commands, "bash", admin, password]).output().expect("bash runs");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    done.push(admin.to_owned());
}
