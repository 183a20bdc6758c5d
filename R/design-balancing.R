# Weights that solve balance conditions: the balancing score, entropy and stable weights (Methods, "Balancing weights").

# The logit score of Methods, "Balancing weights", and its inverse weights.
balancing_score_weights <- function(x, call) {
  study <- study_of(x)
  matrix <- study_matrix(study)
  s <- kept_weight(x)
  z <- as.double(study$z)
  score <- switch(population_of(study$estimand),
    everybody = counterpoise_score(matrix, z, s, x, call),
    score = likelihood_score(matrix, z, s, x, call),
    odds_score(matrix, z, s, study, call)
  )
  names <- c("(intercept)", colnames(matrix))
  dimnames(score$covariance) <- list(names, names)
  score$coefficients <- stats::setNames(score$coefficients, names)
  score$aliased <- colnames(matrix)[score$aliased]
  score <- c(list(link = "logit", terms = study_terms(study), formula = study$formula, columns = names(study$columns),
                  known = FALSE, settings = list(source = "balancing")), score)
  if (!all(design_kept(x))) score$inside <- design_kept(x)
  c(inverse_weights(x, score), list(score = score))
}

# Where the balance conditions are the likelihood's own (estimands with own_likelihood).
likelihood_score <- function(matrix, z, s, x, call) {
  fit <- core_fit(matrix, z, s, "logit")
  check_fit(fit, matrix, x, call)
  c(fit[c("linear", "fitted", "coefficients", "covariance", "aliased")], list(residual = s * (z - fit$fitted)))
}

counterpoise_score <- function(matrix, z, s, x, call) {
  fit <- core_fit_counterpoise(matrix, z, s)
  check_fit(fit, matrix, x, call)
  along <- ifelse(z == 1, fit$linear, -fit$linear)
  c(fit[c("linear", "fitted", "coefficients", "covariance", "aliased")],
    list(residual = s * (2 * z - 1) * (1 + exp(-along))))
}

# ATT, ATC: the odds of the arm to be weighted are exp(b0 + x'b), which is the entropy dual of the means.
odds_score <- function(matrix, z, s, study, call) {
  targets <- core_balancing_targets(study$z, study$estimand)
  side <- if (treated_seek(study)) 1 else -1
  arm <- if (treated_seek(study)) 1 - z else z
  fit <- core_balance_arm(matrix, s, arm, targets[[1L]])
  check_balanced(fit, matrix, s, arm, names(targets), study, NULL, call)
  linear <- side * (fit$coefficients[1L] + drop(matrix %*% fit$coefficients[-1L]))
  list(linear = linear, fitted = stats::plogis(linear), coefficients = side * fit$coefficients,
       covariance = fit$covariance, aliased = setdiff(seq_len(ncol(matrix)), fit$active),
       residual = side * s * (targets[[1L]] - arm * fit$weight))
}

# Entropy and stable weights.
moment_weights <- function(x, asked, stable, call) {
  study <- study_of(x)
  if (stable) check_number(asked$tolerance, min = 0, arg = "tolerance", call = call)
  check_moments(asked$moments, call)
  moments <- moment_matrix(study, asked$moments, asked$interactions, all_levels = stable, call)
  s <- kept_weight(x)
  targets <- core_balancing_targets(study$z, study$estimand)
  tolerance <- if (stable) asked$tolerance / length(targets) * reference_sds(moments, study)
  fits <- Map(function(target, name) {
    arm <- as.double(study$z == (name == "treated"))
    fit <- core_balance_arm(moments, s, arm, target, tolerance)
    check_balanced(fit, moments, s, arm, name, study, tolerance, call)
    fit[c("coefficients", "covariance", "weight", "active")]
  }, targets, names(targets))
  weight <- Reduce(`+`, lapply(fits, `[[`, "weight"))
  if (length(targets) == 1L) weight[study$z != (names(targets) == "treated")] <- 1
  list(weight = weight, weighing = list(moments = asked$moments, interactions = asked$interactions,
                                        tolerance = asked$tolerance, fits = fits))
}

moment_details <- function(asked) {
  c(if (asked$moments > 1) paste(round(asked$moments), "moments"), if (!is.null(asked$interactions)) "interactions")
}

check_moments <- function(moments, call) {
  if (is_number(moments) && moments %in% 1:3) return(invisible(moments))
  abort_input("{.arg moments} must be 1, 2 or 3.", call = call)
}

# What is to be balanced: the covariates and whatever terms a formula adds, numeric columns standardised (so that
# powers do not run together), their powers, and products asked for. all_levels: with the first level of every factor,
# as the balance table has it.
moment_matrix <- function(study, moments, interactions, all_levels, call) {
  if (is.null(study$logbook)) return(make_moments(study, moments, interactions, all_levels, call))  # of one replicate
  key <- paste(c("moments", moments, if (is.null(interactions)) "none" else deparse1(interactions), all_levels,
                 rlang::hash(study$s)), collapse = "\r")
  cached_matrix(study, key, function() make_moments(study, moments, interactions, all_levels, call))
}

make_moments <- function(study, moments, interactions, all_levels, call) {
  base <- study_matrix(study, formula = NULL)
  if (!is.null(study$formula)) {
    terms <- study_matrix(study)
    base <- cbind(base, terms[, setdiff(colnames(terms), colnames(base)), drop = FALSE])
  }
  if (all_levels) base <- cbind(base, reference_levels(study$columns))
  numeric <- Filter(function(column) column$kind %in% c("numeric", "date"), study$columns)
  standard <- lapply(numeric, function(column) standardise(column$values, sampling_weight(study)))
  plain <- intersect(names(standard), colnames(base))
  if (length(plain) > 0L) base[, plain] <- do.call(cbind, standard[plain])
  powers <- lapply(seq_len(moments)[-1L], function(power) {
    columns <- lapply(standard, function(values) values^power)
    do.call(cbind, stats::setNames(columns, sprintf("%s^%d", names(columns), power)))
  })
  do.call(cbind, c(list(base), powers, list(interaction_matrix(study, interactions, standard, call))))
}

standardise <- function(x, s) {
  mean <- sum(s * x) / sum(s)
  (x - mean) / sqrt(sum(s * (x - mean)^2) / sum(s))
}

interaction_matrix <- function(study, interactions, standard, call) {
  if (is.null(interactions)) return(NULL)
  columns <- study$columns
  columns[names(standard)] <- Map(function(column, values) {
    column$values <- values
    column
  }, columns[names(standard)], standard)
  columns <- lapply(columns, function(column) column[names(column) != "flag"])
  if (identical(interactions, "all")) {
    if (length(columns) < 2L) abort_input("{.arg interactions} needs two covariates or more.", call = call)
    wanted <- utils::combn(formula_names(names(columns)), 2L, paste, collapse = ":")
  } else {
    wanted <- attr(stats::terms(score_formula(interactions, study, call, "interactions")), "term.labels")
    wanted <- wanted[grepl(":", wanted, fixed = TRUE)]
    if (length(wanted) == 0L) {
      abort_input("{.arg interactions} must hold products such as {.code ~ a:b}, or be \"all\".", call = call)
    }
  }
  do.call(cbind, lapply(wanted, function(label) product_matrix(columns, label, call)))
}

# Products of the columns of each part; main effects are in the base already.
product_matrix <- function(columns, label, call) {
  parts <- all.vars(str2lang(label))
  own <- Map(function(column, name) do.call(cbind, plain_part(column, name)), columns[parts], parts)
  product <- Reduce(function(a, b) {
    out <- column_products(a, b)
    colnames(out) <- paste(rep(colnames(a), ncol(b)), rep(colnames(b), each = ncol(a)), sep = " x ")
    out
  }, own)
  product
}

# The sds that standardize differences, of the sample before the design (Methods, "Balance").
reference_sds <- function(moments, study) {
  vapply(seq_len(ncol(moments)), function(j) reference_sd(moments[, j], study)$sd, 0)
}

reference_sd <- function(values, study) {
  core_reference_spread(values, study$z, sampling_weight(study), reference_arm(study$estimand), all(values %in% 0:1))
}

# Turns the facts of a balancing fit into an error that names the moments that can't be met.
check_balanced <- function(fit, moments, s, arm, name, study, tolerance, call) {
  slack <- if (is.null(tolerance)) 1e-8 else tolerance + 1e-8
  left <- abs(core_moment_gaps(moments, s, arm, fit))
  if (fit$status == "converged" && all(left <= slack + 1e-8 * abs(fit$target))) return(invisible(fit))
  beyond <- beyond_range(moments[arm == 1 & s > 0, , drop = FALSE], fit$target, tolerance)
  stop_not_balanced(colnames(moments), beyond, left, name, call)
}

# names: of the moments; beyond: is the target out of their range? left: the gap that is left; remote: of a table in a
# database, which has fewer ways out?
stop_not_balanced <- function(names, beyond, left, name, call, remote = FALSE) {
  guilty <- if (any(beyond)) which(beyond) else which(left >= max(left) / 20)
  named <- names[guilty[order(-left[guilty])]]
  shown <- utils::head(named, 6L)
  other <- c(treated = "control", control = "treated")[name]
  if (is.na(other)) other <- "other"  # one of several arms
  abort_kind("infeasible", c(
    "No weights of the {name} units can meet the moments asked for.",
    x = paste0(if (any(beyond)) "Out of their range: {.val {shown}}" else "They can't be met together: {.val {shown}}",
               if (length(named) > 6L) " and {length(named) - 6L} more", "."),
    i = if (remote) "Ask for less: fewer {.arg moments} or merged levels; or {.fn trim_units} the {other} units without
                     counterpart first." else
      "Ask for less: fewer {.arg moments} or {.arg interactions}, merged levels, a larger {.arg tolerance}
       ({.code method = \"stable\"}); or {.fn trim_units} the {other} units without counterpart first."
  ), moments = named, call = call, .envir = environment())
}

# Moments whose target no weights of the arm can reach. Entropy weights are positive, so that the ends of the range are
# out of reach too.
beyond_range <- function(x, target, tolerance) {
  least <- apply(x, 2L, min)
  most <- apply(x, 2L, max)
  if (!is.null(tolerance)) return(target - tolerance > most | target + tolerance < least)
  target > most | target < least | (least < most & (target == least | target == most))
}

moment_nuisance <- function(design, s, stable) {
  study <- design$study
  facts <- design$weighing
  moments <- moment_matrix(study, facts$moments, facts$interactions, stable, rlang::caller_env())
  targets <- core_balancing_targets(study$z, study$estimand)
  core_joined(unname(Map(function(fit, target, name) {
    arm <- as.double(study$z == (name == "treated"))
    if (!stable) return(core_entropy_nuisance(moments, s, arm, target, fit))
    share <- facts$tolerance / length(targets)
    spreads <- lapply(seq_len(ncol(moments)), function(j) reference_sd(moments[, j], study))
    core_stable_nuisance(moments, s, arm, target, fit, share * vapply(spreads, `[[`, 0, "sd"), function(u) {
      Reduce(`+`, Map(function(spread, u) if (u == 0) 0 else share * u * spread$influence(), spreads, u), 0)
    })
  }, facts$fits, targets, names(targets))))
}
