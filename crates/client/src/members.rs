//! Members, roles and invitations.

use gubernum_api::members::{
    AcceptInvitation, BeginSecondFactor, ChangePassword, CheckInvitation, CreatedInvitation, Invitation,
    Member, MemberDetail, NewInvitation, NewRole, NewSecondFactor, OwnRights, Role, SetMember, Welcome,
};
use reqwest::Method;

use crate::client::{Client, encoded};
use crate::error::ClientError;

impl Client {
    /// All members by name.
    ///
    /// # Errors
    /// When not allowed.
    pub async fn members(&self) -> Result<Vec<Member>, ClientError> {
        self.get("/api/v1/members").await
    }

    /// One member with what follows from its grants.
    ///
    /// # Errors
    /// When nothing has that number, or not allowed.
    pub async fn member(&self, id: u64) -> Result<MemberDetail, ClientError> {
        self.get(&format!("/api/v1/members/{id}")).await
    }

    /// Changes a member.
    ///
    /// # Errors
    /// When nothing has that number, the change is invalid, or not allowed.
    pub async fn set_member(&self, id: u64, wish: &SetMember) -> Result<Member, ClientError> {
        self.json(self.request(Method::PATCH, &format!("/api/v1/members/{id}")).json(wish)).await
    }

    /// Removes a member.
    ///
    /// # Errors
    /// When nothing has that number, it is the last admin, or not allowed.
    pub async fn remove_member(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/members/{id}"))).await.map(|_| ())
    }

    /// Ends all sessions of a member.
    ///
    /// # Errors
    /// When nothing has that number, or not allowed.
    pub async fn end_sessions_of(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/members/{id}/sessions"))).await.map(|_| ())
    }

    /// Makes a link by which a member chooses a new password.
    ///
    /// # Errors
    /// When nothing has that number, or not allowed.
    pub async fn reset_member(&self, id: u64) -> Result<CreatedInvitation, ClientError> {
        self.json(self.request(Method::POST, &format!("/api/v1/members/{id}/reset"))).await
    }

    /// What the one who asks may.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn own_rights(&self) -> Result<OwnRights, ClientError> {
        self.get("/api/v1/rights").await
    }

    /// The links that wait to be used.
    ///
    /// # Errors
    /// When not allowed.
    pub async fn invitations(&self) -> Result<Vec<Invitation>, ClientError> {
        self.get("/api/v1/invitations").await
    }

    /// Invites somebody.
    ///
    /// # Errors
    /// When the name is taken, a grant is more than one's own, or not allowed.
    pub async fn invite(&self, wish: &NewInvitation) -> Result<CreatedInvitation, ClientError> {
        self.post("/api/v1/invitations", wish).await
    }

    /// Takes a link back.
    ///
    /// # Errors
    /// When nothing has that number, or not allowed.
    pub async fn withdraw_invitation(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/invitations/{id}"))).await.map(|_| ())
    }

    /// Whom a link is for.
    ///
    /// # Errors
    /// When it is not good.
    pub async fn welcome(&self, secret: &str) -> Result<Welcome, ClientError> {
        let wish = CheckInvitation { secret: secret.to_owned() };
        self.post("/api/v1/invitations/show", &wish).await
    }

    /// Uses a link and gives a client with the session that it opens.
    ///
    /// # Errors
    /// When it is not good, or the password too weak.
    pub async fn accept_invitation(&self, wish: &AcceptInvitation) -> Result<Self, ClientError> {
        self.opened("/api/v1/invitations/accept", wish).await
    }

    /// Begins to set up a second factor; for a client that has signed in.
    ///
    /// # Errors
    /// When the password is not right, or this is a token.
    pub async fn begin_second_factor(&self, password: &str) -> Result<NewSecondFactor, ClientError> {
        let wish = BeginSecondFactor { password: password.to_owned() };
        self.post("/api/v1/second-factor", &wish).await
    }

    /// Changes one's own password.
    ///
    /// # Errors
    /// When the password until now is not right, or the new one too weak.
    pub async fn change_password(&self, wish: &ChangePassword) -> Result<(), ClientError> {
        self.send(self.request(Method::POST, "/api/v1/password").json(wish)).await.map(|_| ())
    }

    /// All roles.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn roles(&self) -> Result<Vec<Role>, ClientError> {
        self.get("/api/v1/roles").await
    }

    /// Adds a role, or changes the one of this name.
    ///
    /// # Errors
    /// When it is invalid, or not allowed.
    pub async fn set_role(&self, role: &NewRole) -> Result<Role, ClientError> {
        self.json(self.request(Method::PUT, "/api/v1/roles").json(role)).await
    }

    /// Removes a role that nobody has.
    ///
    /// # Errors
    /// When nothing has that name, somebody has it, or not allowed.
    pub async fn remove_role(&self, name: &str) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/roles/{}", encoded(name)))).await.map(|_| ())
    }
}
