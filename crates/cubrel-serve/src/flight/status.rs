//! Problems as gRPC has them.

use axum::http::StatusCode;
use tonic::{Code, Status};

use crate::problem::Problem;

impl From<Problem> for Status {
    fn from(problem: Problem) -> Status {
        let code = match StatusCode::from_u16(problem.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR) {
            _ if problem.kind() == "limit" => Code::ResourceExhausted,
            _ if problem.kind() == "cancelled" => Code::Cancelled,
            StatusCode::UNAUTHORIZED => Code::Unauthenticated,
            StatusCode::FORBIDDEN => Code::PermissionDenied,
            StatusCode::NOT_FOUND => Code::NotFound,
            StatusCode::TOO_MANY_REQUESTS => Code::ResourceExhausted,
            StatusCode::SERVICE_UNAVAILABLE => Code::Unavailable,
            status if status.is_client_error() => Code::InvalidArgument,
            _ => Code::Internal,
        };
        Status::new(code, problem.told())
    }
}

/// A call that cannot be read.
pub fn unreadable(e: impl std::fmt::Display) -> Status {
    Status::invalid_argument(format!("the call cannot be read: {e}"))
}

/// Something that should not go wrong has.
pub fn fault(e: impl std::fmt::Display) -> Status {
    tracing::error!("{e}");
    Status::internal("a fault of the server: its log tells why")
}
