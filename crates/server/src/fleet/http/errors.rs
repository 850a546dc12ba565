//! Refusals of this capability as problem details.

use crate::fleet::{EndpointError, FleetError};
use crate::web::ApiError;

impl From<FleetError> for ApiError {
    fn from(error: FleetError) -> Self {
        let sentence = error.to_string();
        match error {
            FleetError::Reference(error) => error.into(),
            FleetError::Wildcard => Self::new("invalid", "Invalid request", 422, sentence),
            FleetError::NoHost { known, .. } => {
                let mut error = Self::not_found(sentence);
                error.problem.candidates = known;
                error
            }
            FleetError::Unreachable { .. } => Self::host_unreachable(sentence),
        }
    }
}

impl From<EndpointError> for ApiError {
    fn from(error: EndpointError) -> Self {
        Self::invalid(error.field(), error.to_string())
    }
}
