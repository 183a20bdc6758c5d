# The ladder of Imbens & Rubin (2015, chapter 13): Methods, "Propensity score".

score_from_ladder <- function(x, settings, call) {
  found <- ladder_terms(x, settings, call)
  score <- score_from_regression(x, stats::reformulate(found$terms), settings$link, call)
  c(score, found[c("steps", "untried")])
}

# list(terms: labels for a formula, steps: the table of what was tried last at each step and added, untried).
ladder_terms <- function(x, settings, call) {
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
  list(terms = climbed$terms, steps = climbed$steps, untried = untried_terms(climbed$steps, settings$second_order))
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

# What a search stands on, for units in memory and in a database (remote_ladder()): the columns, lone levels pooled; a
# term's part, which is its columns of the model matrix; products of two parts; and fits. begin(parts) gives the state
# list(parts, terms, loglik, df, coefficients), trials(state, candidates, tick) a list of ladder_trial() for lists of
# parts.
ladder_ground <- function(x, link, call) {
  study <- study_of(x)
  columns <- pool_levels(study$columns, lone_levels(study$columns, study$z, kept_weight(x)))
  own <- function(column, name) {
    column$flag <- NULL
    do.call(cbind, plain_part(column, name))
  }
  list(columns = columns, part = function(columns, formula) covariate_matrix(columns, formula, call), own = own,
       times = column_products,
       begin = function(parts) ladder_state(x, parts, link, columns, call),
       trials = function(state, candidates, tick) {
         lapply(stats::setNames(nm = names(candidates)), function(name) {
           tick(name)
           ladder_trial(state, do.call(cbind, unname(candidates[[name]])))
         })
       })
}

climb_ladder <- function(x, basic, thresholds, settings, call) {
  study <- study_of(x)
  labels <- if (is.null(study$formula)) formula_names(names(study$columns))
            else attr(stats::terms(study$formula), "term.labels")
  ground <- if (is_remote(x)) remote_ladder(x, settings$link, call) else ladder_ground(x, settings$link, call)
  parts <- lapply(stats::setNames(nm = union(labels, basic)), function(label) {
    ground$part(ground$columns[all.vars(str2lang(label))],
                if (!is.name(str2lang(label))) stats::reformulate(label))
  })
  state <- ground$begin(parts[basic])
  state$steps <- ladder_row(0L, if (length(basic) > 0L) paste(basic, collapse = " + ") else "(intercept)", "start",
                            state$df, NA, state$loglik, TRUE)
  state <- show_progress("Climbing the ladder", function(tick) {
    state <- add_terms(state, ground, parts[setdiff(labels, basic)], "linear", thresholds[["linear"]], tick)
    second <- second_order_terms(ground, names(if (settings$second_order == "all") parts else state$parts))
    second <- second[setdiff(names(second), names(state$parts))]
    add_terms(state, ground, second, "second", thresholds[["second"]], tick, mains = parts[labels])
  })
  attr(state$steps, "labels") <- labels
  state
}

formula_names <- function(names) ifelse(make.names(names) == names, names, sprintf("`%s`", names))

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
add_terms <- function(state, ground, candidates, kind, threshold, tick, mains = list()) {
  brought <- function(name) {
    own <- intersect(formula_names(all.vars(str2lang(name))), names(mains))
    c(mains[setdiff(own, names(state$parts))], candidates[name])
  }
  repeat {
    if (length(candidates) == 0L) return(state)
    trials <- ground$trials(state, lapply(stats::setNames(nm = names(candidates)), brought), tick)
    statistic <- vapply(unname(trials), `[[`, 0, "statistic")
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

# Squares of the numeric columns among the terms and products of every two columns (missing indicators left aside).
second_order_terms <- function(ground, labels) {
  plain <- Filter(function(label) is.name(str2lang(label)), labels)
  columns <- ground$columns[vapply(plain, function(label) as.character(str2lang(label)), "")]
  own <- stats::setNames(Map(ground$own, columns, names(columns)), plain)
  numeric <- plain[vapply(columns, function(column) column$kind %in% c("numeric", "date"), NA)]
  squares <- lapply(stats::setNames(own[numeric], sprintf("I(%s^2)", numeric)), function(x) ground$times(x, x))
  if (length(plain) < 2L) return(squares)
  pairs <- utils::combn(plain, 2L, simplify = FALSE)
  products <- lapply(pairs, function(pair) ground$times(own[[pair[1L]]], own[[pair[2L]]]))
  c(squares, stats::setNames(products, vapply(pairs, paste, "", collapse = ":")))
}

# Every column of a times every column of b.
column_products <- function(a, b) {
  do.call(cbind, lapply(seq_len(ncol(b)), function(k) a * b[, k]))
}
