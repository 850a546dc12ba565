//! The kinds of change as plain words: their names everywhere, and what their targets are.
//!
//! What goes with each kind is in [`super::Request`], of which [`Kind`] is the discriminant.

use super::Kind;
use crate::plan::ObjectKind;

impl Kind {
    /// All of them.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word used in the API, the client and the audit log.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// Whether it holds as a whole or not at all.
    pub fn is_whole(self) -> bool {
        matches!(self, Self::Apply | Self::RemoveStack | Self::Move | Self::Clone)
    }

    /// What its targets are. Those of [`Kind::Tidy`] are of several kinds.
    pub fn object(self) -> ObjectKind {
        match self {
            Self::Pull | Self::Push | Self::Tag | Self::RemoveImage => ObjectKind::Image,
            Self::CreateVolume | Self::RemoveVolume => ObjectKind::Volume,
            Self::CreateNetwork | Self::RemoveNetwork => ObjectKind::Network,
            Self::Start
            | Self::Stop
            | Self::Restart
            | Self::Kill
            | Self::Pause
            | Self::Resume
            | Self::Remove
            | Self::Deploy
            | Self::Edit
            | Self::Update
            | Self::Rollback
            | Self::Connect
            | Self::Disconnect
            | Self::Tidy
            | Self::Apply
            | Self::RemoveStack
            | Self::Move
            | Self::Clone
            | Self::Run => ObjectKind::Container,
        }
    }
}
