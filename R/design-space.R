# The space in which units are near or far: Methods, "Matching", distances. Coordinates for all rows of the study whose
# Euclidean distance is the distance asked for.

# settings: on, covariates, metric, spread (see pair_units()). Returns list(points, text): n x p, and the distance in
# words.
pair_space <- function(x, settings, call = rlang::caller_env(), quiet = FALSE) {
  switch(settings$on,
    score = list(points = cbind(x$score$linear), text = "linear score"),
    probability = list(points = cbind(x$score$fitted), text = "score"),
    mahalanobis = mahalanobis_space(x, settings, call, quiet),
    diagonal = diagonal_space(x, settings, call, quiet),
    metric = metric_space(x, settings, call)
  )
}

needs_score <- function(settings) {
  settings$on %in% c("score", "probability") ||
    (settings$on == "metric" && "score" %in% metric_names(settings$metric))
}

# n x p columns of the covariates: numbers as they are, a column per level of a factor (without the first where `full`
# is FALSE: it adds nothing to a Mahalanobis distance), indicators of missing values.
space_columns <- function(study, covariates, full, call) {
  parsed <- if (is.null(covariates)) list(names = names(study$columns), formula = study$formula) else
    parse_covariates(covariates, study$data, character(), "covariates", call)
  unknown <- setdiff(parsed$names, names(study$columns))
  if (length(unknown) > 0L) {
    abort_input(c("{.arg covariates} must be covariates of the study.", x = "{.val {unknown}} {?is/are} not.",
                  i = "It has {.val {names(study$columns)}}."), unknown = unknown, call = call)
  }
  if (!full || !is.null(parsed$formula)) return(covariate_matrix(study$columns[parsed$names], parsed$formula, call))
  level_matrix(study$columns[parsed$names])
}

every_level <- function(column, name) {
  if (column$kind != "factor") return(do.call(cbind, plain_part(column, name)))
  indicators <- vapply(seq_along(column$levels), function(code) as.double(column$values == code),
                       numeric(length(column$values)))
  colnames(indicators) <- paste0(name, ": ", column$levels)
  indicators
}

level_matrix <- function(columns) do.call(cbind, unname(Map(every_level, columns, names(columns))))

# Columns that vary among the units still in, with their sds.
varying_columns <- function(matrix, v, quiet, call) {
  sd <- sqrt(diag(core_covariance(matrix, v)))
  constant <- !(sd > 1e-12 * abs(colMeans(matrix)))
  if (all(constant)) {
    abort_input(c("No covariate varies, so there is no distance between units.",
                  x = "Constant: {.val {colnames(matrix)}}."), columns = colnames(matrix), call = call)
  }
  if (any(constant) && !quiet) {
    warn_kind("constant", c("The distance leaves out {.val {colnames(matrix)[constant]}}: constant among the units."),
              columns = colnames(matrix)[constant])
  }
  list(matrix = matrix[, !constant, drop = FALSE], sd = sd[!constant])
}

# Sigma^-1 = W W' turns x into coordinates x W. Directions without spread are left out (pseudo-inverse). `spread`:
# covariance of all units, or pooled within the arms.
mahalanobis_space <- function(x, settings, call, quiet) {
  study <- study_of(x)
  v <- kept_weight(x)
  columns <- varying_columns(space_columns(study, settings$covariates, FALSE, call), v, quiet, call)
  scaled <- sweep(columns$matrix, 2L, columns$sd, "/")
  covariance <- if (identical(settings$spread, "within")) {
    core_within_covariance(scaled, v, study$z)
  } else {
    core_covariance(scaled, v)
  }
  root <- core_inverse_root(covariance)
  if (root$rank < ncol(scaled) && !quiet) {
    explained <- colnames(scaled)[core_dependent(covariance)]
    warn_kind("singular", c(
      "The covariance of the covariates is singular: {.val {explained}} {?follows/follow} from the others.",
      i = "The distance uses its pseudo-inverse; leave {cli::qty(length(explained))}{?it/them} out to say so."
    ), columns = explained)
  }
  list(points = scaled %*% root$root, text = "Mahalanobis distance")
}

diagonal_space <- function(x, settings, call, quiet) {
  columns <- varying_columns(space_columns(study_of(x), settings$covariates, TRUE, call), kept_weight(x), quiet, call)
  list(points = sweep(columns$matrix, 2L, columns$sd, "/"), text = "scaled distance")
}

metric_names <- function(metric) if (is.matrix(metric)) colnames(metric) else names(metric)

# A given metric: named weights of squared differences, or a named positive definite matrix. A name is that of a
# covariate (for a factor: of all its levels), of one of its columns ("port_size: small"), or "score".
metric_space <- function(x, settings, call) {
  metric <- settings$metric
  study <- study_of(x)
  columns <- level_matrix(study$columns)
  if (!is.null(x$score)) columns <- cbind(columns, score = x$score$linear)
  if (is.matrix(metric)) return(matrix_space(metric, columns, call))
  owner <- covariate_of_column(study)
  if (!is.null(x$score)) owner <- c(owner, "score")
  weight <- numeric(ncol(columns))
  for (name in names(metric)) {
    hit <- colnames(columns) == name
    if (!any(hit)) hit <- owner == name
    if (!any(hit)) stop_metric_name(name, unique(c(owner, colnames(columns))), call)
    weight[hit] <- metric[[name]]
  }
  inside <- weight > 0
  list(points = sweep(columns[, inside, drop = FALSE], 2L, sqrt(weight[inside]), "*"), text = "given metric")
}

covariate_of_column <- function(study) {
  unlist(Map(function(column, name) rep(name, NCOL(every_level(column, name))), study$columns,
             names(study$columns)), use.names = FALSE)
}

matrix_space <- function(metric, columns, call) {
  unknown <- setdiff(colnames(metric), colnames(columns))
  if (length(unknown) > 0L) stop_metric_name(unknown[1L], colnames(columns), call)
  root <- tryCatch(chol(metric), error = function(e) NULL)
  if (is.null(root) || !isSymmetric(unname(metric))) {
    abort_input("{.arg metric} must be symmetric and positive definite when it is a matrix.", call = call)
  }
  list(points = columns[, colnames(metric), drop = FALSE] %*% t(root), text = "given metric")
}

stop_metric_name <- function(name, known, call) {
  near <- nearest_name(name, known)
  abort_input(c("{.arg metric} must name covariates, their columns, or {.val score}.",
                x = "There is no {.val {name}}.",
                i = if (is.null(near)) "Known: {.val {known}}." else "Did you mean {.val {near}}?"), call = call)
}

are_named_numbers <- function(x) {
  is.numeric(x) && all(is.finite(x)) && !is.null(metric_names(x)) && all(nzchar(metric_names(x)))
}

# A metric as the user may give it: numbers with names, a matrix with the same names on both sides, or a design of
# search_metric().
check_metric <- function(metric, call = rlang::caller_env()) {
  if (inherits(metric, "twin_design")) metric <- metric$metric$weights
  if (is.list(metric)) metric <- unlist(metric)
  if (are_named_numbers(metric) && (is.matrix(metric) || (all(metric >= 0) && any(metric > 0)))) return(metric)
  abort_input(c("{.arg metric} must be numbers of at least 0 with the names of covariates, a matrix with such names,
                 or a design from {.fn search_metric}.",
                i = "For example c(boat_length = 1, crew_size = 0.5)."), call = call)
}
