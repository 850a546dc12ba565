//! Definitions of containers: read back from the engine, converted from and to Compose files, checked for a host; and
//! earlier revisions.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::Problem;
use gubernum_api::images::{
    DefinitionView, DroppedAttribute, Revision, Translate, VariableLines, VariablesView,
};
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::definition::check::Finding;
use gubernum_core::definition::clone::{clone_of, free_name, take_free_ports};
use gubernum_core::definition::{compose, variables};
use gubernum_core::rights::Right;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::fleet::{Unseen, View};
use crate::stacks::StacksContext;
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;

/// The definition of a container, what of it comes from its image, and the same as Compose text. Values that look
/// like secrets are hidden; sent back unchanged they keep their value.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/definition", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = DefinitionView),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<StacksContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<DefinitionView>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let (container, defined) = context.runner.defined(&container.reference()).await?;
    let definition = defined.definition.masked();
    Ok(Json(DefinitionView {
        host: Some(container.host),
        compose: compose::write(&definition),
        definition,
        image: Some(defined.image.masked()),
        left: Vec::new(),
        findings: Vec::new(),
    }))
}

/// The errors of a definition for a host. Whoever may not deploy to the host itself hears only of those that the definition
/// shows by itself: which paths and ports there are is the host's.
async fn findings_on(
    context: &StacksContext,
    view: &View,
    host: &str,
    definition: &Definition,
    replaces: Option<&Container>,
) -> Result<Vec<Finding>, ApiError> {
    if !view.on_host(host).has(Right::Deploy) {
        return Ok(gubernum_core::definition::check::check(definition, &Default::default()));
    }
    let engine = context.links.engine(host)?;
    let found = context.runner.check_definition(host, &engine, definition, replaces).await;
    Ok(Unseen::on(view, host).out_of_all(found))
}

/// Where a clone is to run.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct ClonePlace {
    /// Its host; the same when absent.
    host: Option<String>,
    /// Its name; the first that is free, made from the container's, when absent.
    name: Option<String>,
}

/// The definition of a container's clone: without what only one container can have (its place in a stack, anonymous
/// volumes, fixed addresses), with a free name and free ports. Changes nothing. `from` in a request to deploy it
/// names the container whose hidden values apply.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/clone", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path), ClonePlace), operation_id = "clone_definition", responses(
    (status = 200, body = DefinitionView),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn clone(
    State(context): State<Arc<StacksContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(place): Params<ClonePlace>,
) -> Result<Json<DefinitionView>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let (container, defined) = context.runner.defined(&container.reference()).await?;
    let target = place.host.unwrap_or(container.host);
    view.know_host(&target).map_err(|e| ApiError::from(e).at("?host"))?;
    let mut definition = clone_of(&defined.definition);
    definition.name = place.name.unwrap_or_else(|| {
        let taken = view.judge(|fleet, _| fleet.containers_of(&target).map(|c| c.name.clone()).collect());
        free_name(&container.name, &taken)
    });
    let mut findings =
        findings_on(&context, &view, &target, &definition, None).await.map_err(|e| e.at("?host"))?;
    if take_free_ports(&mut definition, &findings) {
        findings = findings_on(&context, &view, &target, &definition, None).await?;
    }
    let definition = definition.masked();
    Ok(Json(DefinitionView {
        host: Some(target),
        compose: compose::write(&definition),
        definition,
        image: Some(defined.image.masked()),
        left: Vec::new(),
        findings,
    }))
}

/// Parses pasted environment variables: `A=b`, `export A=b`, `A: b`, `- A=b`, quoted or not. Changes nothing.
#[utoipa::path(post, path = "/api/v1/definitions/variables", tag = "containers", request_body = VariableLines,
    operation_id = "read_variables", responses(
    (status = 200, body = VariablesView),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn variables(
    _who: Identity,
    Body(wish): Body<VariableLines>,
) -> Result<Json<VariablesView>, ApiError> {
    let read = variables::read(&wish.text);
    let left = read.left.into_iter().map(|l| DroppedAttribute {
        line: l.line as u64,
        column: 1,
        sentence: l.sentence,
    });
    Ok(Json(VariablesView { variables: read.variables, left: left.collect() }))
}

/// Earlier revisions of a container, newest first.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/earlier", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Vec<Revision>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn earlier(
    State(context): State<Arc<StacksContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<Vec<Revision>>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let all = context.db.run(move |store| store.earlier(&container.host, &container.name)).await?;
    Ok(Json(all))
}

/// For which place a definition is judged.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Place {
    /// Host to check for; without it, checks that depend on a host are skipped.
    host: Option<String>,
    /// Name of the container that it replaces on that host.
    replaces: Option<String>,
}

/// Converts Compose text with one service to a definition, or a definition to Compose text, and checks it for a host.
/// Changes nothing.
#[utoipa::path(post, path = "/api/v1/definitions/translate", tag = "containers", params(Place),
    request_body = Translate, responses(
    (status = 200, body = DefinitionView),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn translate(
    State(context): State<Arc<StacksContext>>,
    view: View,
    Params(place): Params<Place>,
    Body(wish): Body<Translate>,
) -> Result<Json<DefinitionView>, ApiError> {
    let (definition, left): (Definition, Vec<DroppedAttribute>) = match (wish.compose, wish.definition) {
        (Some(text), None) => {
            let read = compose::read_with(&text, &wish.files)
                .map_err(|e| ApiError::invalid("/compose", e.to_string()))?;
            let left = read.left.into_iter().map(|l| DroppedAttribute {
                line: l.place.line,
                column: l.place.column,
                sentence: l.sentence,
            });
            (read.definition, left.collect())
        }
        (None, Some(definition)) => (definition, Vec::new()),
        _ => return Err(ApiError::invalid("/", "give either 'compose' or 'definition'")),
    };
    let findings = match &place.host {
        Some(host) => {
            view.know_host(host).map_err(|e| ApiError::from(e).at("?host"))?;
            let replaces = match &place.replaces {
                Some(name) => Some(view.find_on(host, name)?),
                None => None,
            };
            findings_on(&context, &view, host, &definition, replaces.as_ref()).await?
        }
        None => gubernum_core::definition::check::check(&definition, &Default::default()),
    };
    Ok(Json(DefinitionView {
        host: place.host,
        compose: compose::write(&definition),
        definition,
        image: None,
        left,
        findings,
    }))
}
