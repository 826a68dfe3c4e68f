//! Pages that take computing are worked out apart from the threads that answer every request: while
//! one of these computes, it answers nobody, and what the database sends to its pages waits too.

use actix_web::web;
use pronoia_service::ServiceError;
use tokio::runtime::Handle;

/// Works something out on a thread of its own.
///
/// # Errors
/// Those of the work; [`ServiceError::BrokeOff`] if a mistake of ours ended it.
pub async fn apart<T: Send + 'static, E: From<ServiceError> + Send + 'static>(
    work: impl AsyncFnOnce() -> Result<T, E> + Send + 'static,
) -> Result<T, E> {
    let here = Handle::current();
    web::block(move || here.block_on(work())).await.map_err(|_| E::from(ServiceError::BrokeOff))?
}

#[cfg(test)]
mod tests {
    use crate::run_blocking::*;

    #[actix_web::test]
    async fn others_are_answered_while_something_is_worked_out() {
        let (sender, receiver) = std::sync::mpsc::channel();
        // It holds its thread until it hears from this one.
        let working = apart(async move || receiver.recv().map_err(|_| ServiceError::NotFound));
        let answering = async { sender.send(7) };
        let (worked_out, answered) = tokio::join!(working, answering);
        assert_eq!((worked_out.expect("worked out"), answered), (7, Ok(())));
    }

    #[actix_web::test]
    async fn a_mistake_in_the_work_is_said_and_ends_nothing_else() {
        let broken = apart::<(), ServiceError>(async || panic!("a mistake")).await;
        assert!(matches!(broken, Err(ServiceError::BrokeOff)), "{broken:?}");
        let refused = apart::<(), ServiceError>(async || Err(ServiceError::NotFound)).await;
        assert!(matches!(refused, Err(ServiceError::NotFound)), "{refused:?}");
    }
}
