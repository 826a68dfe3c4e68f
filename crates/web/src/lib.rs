//! The pages of Pronoia, and what programs call: everything that speaks HTTP.

mod api;
mod assets;
mod clients;
mod config;
pub(crate) mod definitions;
mod error;
mod file_download;
mod frame;
mod glossary;
mod pager;
mod pages;
mod received_file;
mod rights;
pub(crate) mod run_blocking;
mod security;
mod session;
mod walk;

pub use clients::TrustedProxies;
pub use config::Config;
pub(crate) use pronoia_service::App;
pub use rights::{Right, Route, doors};

use std::time::Duration;

use actix_web::{HttpServer, web};
use pronoia_service::release_calls::ReleaseCalls;
use pronoia_service::{ServiceError, jobs, text};

/// How long a connection on which nothing comes is kept: as long as somebody looks at a page.
const KEPT_OPEN: Duration = Duration::from_secs(75);

/// Serves pages and works through the queue until the process is told to stop.
///
/// # Errors
/// If the address cannot be bound: another program uses the port.
pub async fn serve(app: App, config: Config) -> std::io::Result<()> {
    let address = (config.host.clone(), config.port);
    // Threads take over how far their maker stands back: those that compute for pages are made here,
    // before a job makes any.
    if let Err(e) = rayon::ThreadPoolBuilder::new().thread_name(|at| format!("for-pages-{at}")).build_global() {
        tracing::debug!("threads that compute for pages are there already: {e}");
    }
    match app.store.put_states_right().await {
        Ok(0) => {}
        Ok(changed) => tracing::info!("{changed} states without a job were corrected"),
        Err(e) => tracing::warn!("states could not be looked at: {e}"),
    }
    if let Err(e) = app.store.drop_lost_lists().await {
        tracing::warn!("lists that nothing leads to could not be removed: {e}");
    }
    let workers = jobs::start(&app, 2);
    let writing = tokio::spawn(ReleaseCalls::keep_writing(app.clone()));
    let (server_app, server_config) = (app.clone(), config.clone());
    let connections = clients::Connections::new(config.trusted_proxies.clone());
    let server = HttpServer::new(move || {
        actix_web::App::new()
            .app_data(web::Data::new(server_app.clone()))
            .app_data(web::Data::new(server_config.clone()))
            .app_data(web::FormConfig::default().limit(256 * 1024).error_handler(|e, _| {
                error::PageError::from(ServiceError::Refused(format!("The form could not be read: {e}."))).into()
            }))
            .wrap(actix_web::middleware::from_fn(rights::guard))
            .wrap(actix_web::middleware::from_fn(clients::whole_bodies))
            .wrap(actix_web::middleware::from_fn(clients::while_asked))
            .wrap(actix_web::middleware::from_fn(security::headers))
            .wrap(actix_web::middleware::Compress::default())
            .configure(api::service)
            .configure(pages::routes)
            .default_service(web::to(pages::nothing_here))
    })
    .on_connect(move |connection, extensions| {
        let stream = connection.downcast_ref::<actix_web::rt::net::TcpStream>();
        let peer = stream.and_then(|stream| Some((stream, stream.peer_addr().ok()?)));
        if let Some(held) = peer.and_then(|(stream, peer)| connections.admit(stream, peer)) {
            extensions.insert(held);
        }
    })
    .workers(2)
    .keep_alive(KEPT_OPEN)
    .client_request_timeout(app.files.patience)
    .shutdown_timeout(5)
    .bind(address)?;
    tracing::info!("serving on http://{}:{}", config.host, config.port);
    let result = server.run().await;
    workers.stop().await;
    writing.abort();
    app.release_calls.write_down(&app).await;
    result
}
