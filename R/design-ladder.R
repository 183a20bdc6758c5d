# The ladder of Imbens & Rubin (2015, chapter 13): Methods, "Propensity score".

score_from_ladder <- function(x, settings, call) {
  if (settings$link == "heteroskedastic_probit") {
    abort_input(c("The ladder works with the links logit, probit and cloglog.",
                  i = "Search with {.val probit}, then give the terms as {.arg model}."), call = call)
  }
  thresholds <- check_thresholds(settings$thresholds, call)
  study <- study_of(x)
  basic <- if (is.null(settings$model)) character()
           else attr(stats::terms(score_formula(settings$model, study, call)), "term.labels")
  climbed <- climb_ladder(x, basic, thresholds, settings, call)
  if (length(climbed$terms) == 0L) {
    abort_input(c(
      "The ladder adds no term: no covariate raises the likelihood enough to tell the arms apart.",
      i = "Compare them as they are, lower {.arg thresholds}, or name the terms in {.arg model}."
    ), call = call)
  }
  score <- score_from_regression(x, stats::reformulate(climbed$terms), settings$link, call)
  score$steps <- climbed$steps
  score$untried <- untried_terms(climbed$steps, settings$second_order)
  score
}

# Covariates that did not enter, so that neither their squares nor their products were tried.
untried_terms <- function(steps, second_order) {
  if (second_order == "all") return(character())
  setdiff(attr(steps, "labels"), steps$term[steps$added])
}

check_thresholds <- function(thresholds, call) {
  thresholds <- unlist(thresholds)
  if (is.numeric(thresholds) && setequal(names(thresholds), c("linear", "second")) && all(thresholds >= 0)) {
    return(thresholds)
  }
  abort_input("{.arg thresholds} must be two numbers named {.val linear} and {.val second}, not negative.",
              call = call)
}

# terms: labels for a formula; steps: the table of what was tried last at each step and added.
climb_ladder <- function(x, basic, thresholds, settings, call) {
  study <- study_of(x)
  lone <- lone_levels(study$columns, study$z, kept_weight(x))
  study <- amend(study, columns = pool_levels(study$columns, lone))
  labels <- if (is.null(study$formula)) formula_names(names(study$columns))
            else attr(stats::terms(study$formula), "term.labels")
  parts <- lapply(stats::setNames(nm = union(labels, basic)), function(label) term_matrix(study, label))
  state <- ladder_state(x, parts[basic], settings$link, study$columns, call)
  state$steps <- ladder_row(0L, if (length(basic) > 0L) paste(basic, collapse = " + ") else "(intercept)", "start",
                            state$df, NA, state$loglik, TRUE)
  state <- show_progress("Climbing the ladder", function(tick) {
    state <- add_terms(state, parts[setdiff(labels, basic)], "linear", thresholds[["linear"]], tick)
    second <- second_order_terms(study, if (settings$second_order == "all") parts else state$parts)
    second <- second[setdiff(names(second), names(state$parts))]
    add_terms(state, second, "second", thresholds[["second"]], tick, mains = parts[labels])
  })
  attr(state$steps, "labels") <- labels
  state
}

formula_names <- function(names) ifelse(make.names(names) == names, names, sprintf("`%s`", names))

term_matrix <- function(study, label) {
  columns <- study$columns[all.vars(str2lang(label))]
  covariate_matrix(columns, if (is.name(str2lang(label))) NULL else stats::reformulate(label))
}

# What the search carries: the chosen parts, their fit, and weights scaled to mean 1.
ladder_state <- function(x, parts, link, columns, call) {
  weight <- kept_weight(x)
  state <- list(z = as.double(study_of(x)$z), weight = weight, scale = sum(design_kept(x)) / sum(weight), link = link,
                parts = parts, terms = names(parts))
  if (length(parts) == 0L) {
    share <- sum(weight * state$z) / sum(weight)
    state$loglik <- state$scale * sum(weight * ifelse(state$z == 1, log(share), log1p(-share)))
    state$df <- 0L
    return(state)
  }
  matrix <- do.call(cbind, unname(parts))
  fit <- core_fit(matrix, state$z, weight, link)
  check_fit(fit, matrix, x, call, columns)
  state$loglik <- state$scale * fit$loglik
  state$df <- sum(vapply(parts, ncol, 0L)) - length(fit$aliased)
  state$coefficients <- fit$coefficients
  state
}

# Adds the candidate with the largest statistic per degree of freedom while it exceeds the threshold. mains: the plain
# terms that squares and products bring with them.
add_terms <- function(state, candidates, kind, threshold, tick, mains = list()) {
  brought <- function(name) {
    own <- intersect(formula_names(all.vars(str2lang(name))), names(mains))
    c(mains[setdiff(own, names(state$parts))], candidates[name])
  }
  repeat {
    if (length(candidates) == 0L) return(state)
    trials <- lapply(names(candidates), function(name) {
      tick(name)
      ladder_trial(state, do.call(cbind, unname(brought(name))))
    })
    statistic <- vapply(trials, `[[`, 0, "statistic")
    best <- which.max(statistic)
    if (length(best) == 0L) return(state)
    name <- names(candidates)[best]
    trial <- trials[[best]]
    added <- statistic[best] > threshold
    state$steps <- rbind(state$steps, ladder_row(max(state$steps$step) + 1L, name, term_kind(name, kind),
                                                 trial$df, statistic[best], trial$loglik, added))
    if (!added) return(state)
    entering <- brought(name)
    state$parts <- c(state$parts, entering)
    state$terms <- c(state$terms, names(entering))
    state[c("loglik", "coefficients")] <- trial[c("loglik", "coefficients")]
    candidates <- candidates[-best]
  }
}

# The likelihood-ratio statistic of one more term, per degree of freedom; NA when it separates the arms, does not
# converge or adds nothing new.
ladder_trial <- function(state, candidate) {
  x <- do.call(cbind, c(unname(state$parts), list(candidate)))
  start <- if (!is.null(state$coefficients)) c(state$coefficients, numeric(ncol(candidate)))
  fit <- core_fit(x, state$z, state$weight, state$link, start)
  df <- ncol(candidate) - sum(fit$aliased > ncol(x) - ncol(candidate))
  usable <- fit$status == "converged" && df > 0L
  loglik <- state$scale * fit$loglik
  list(statistic = if (usable) 2 * (loglik - state$loglik) / df else NA_real_, df = df, loglik = loglik,
       coefficients = fit$coefficients)
}

ladder_row <- function(step, term, kind, df, statistic, loglik, added) {
  data.frame(step = step, term = term, kind = kind, df = df, statistic = statistic, loglik = loglik, added = added)
}

term_kind <- function(name, kind) {
  if (kind == "linear") return("linear")
  if (grepl(":", name, fixed = TRUE)) "product" else "square"
}

# Squares of the numeric columns chosen and products of every two columns chosen (missing indicators left aside).
second_order_terms <- function(study, parts) {
  plain <- Filter(function(label) is.name(str2lang(label)), names(parts))
  columns <- study$columns[vapply(plain, function(label) as.character(str2lang(label)), "")]
  own <- lapply(stats::setNames(columns, plain), function(column) {
    column$flag <- NULL
    do.call(cbind, plain_part(column, column$label))
  })
  numeric <- plain[vapply(columns, function(column) column$kind %in% c("numeric", "date"), NA)]
  squares <- lapply(stats::setNames(own[numeric], sprintf("I(%s^2)", numeric)), function(x) x^2)
  if (length(plain) < 2L) return(squares)
  pairs <- utils::combn(plain, 2L, simplify = FALSE)
  products <- lapply(pairs, function(pair) column_products(own[[pair[1L]]], own[[pair[2L]]]))
  c(squares, stats::setNames(products, vapply(pairs, paste, "", collapse = ":")))
}

# Every column of a times every column of b.
column_products <- function(a, b) {
  do.call(cbind, lapply(seq_len(ncol(b)), function(k) a * b[, k]))
}
