# Weights that solve balance conditions (design-balancing.R) on a table in a database: the same duals, their sums from
# passes over the rows.

remote_moment_weights <- function(x, asked, call) {
  study <- study_of(x)
  rows <- study$rows
  check_moments(asked$moments, call)
  if (!is.null(asked$interactions)) refuse_row_options("interactions", call)
  columns <- moment_words(study, asked$moments)
  s <- remote_kept_weight(x)
  targets <- remote_targets(study$estimand)
  fits <- Map(function(target, name) remote_balance_arm(study, columns, s, name, target, call), targets, names(targets))
  by_arm <- lapply(stats::setNames(nm = names(arm_words)), function(name) {
    if (is.null(fits[[name]])) 1 else fits[[name]]$weight
  })
  nuisances <- Map(function(fit, name) {
    scaled_nuisance(fit_nuisance(fit, columns), say_word(rows, "d", call("*", arm_words[[name]], fit$weight)))
  }, fits, names(fits))
  list(weight = say_word(rows, "w", bquote(ifelse(u_z == 1, .(by_arm$treated), .(by_arm$control)))),
       nuisance = do.call(joined_nuisance, unname(nuisances)))
}

# The moments, as words on a common scale: the columns of the score's matrix and powers of the numeric ones.
moment_words <- function(study, moments) {
  matrix <- remote_matrix(study$columns)
  if (!is.null(study$formula)) {
    terms <- remote_matrix(study$columns[all.vars(study$formula)], study$formula)
    new <- !terms$names %in% matrix$names
    matrix <- list(words = c(matrix$words, terms$words[new]), names = c(matrix$names, terms$names[new]))
  }
  columns <- remote_standardised(study, matrix)
  numeric <- names(Filter(function(column) column$kind %in% c("numeric", "date"), study$columns))
  at <- match(numeric, columns$names)
  for (power in seq_len(moments)[-1L]) {
    words <- lapply(columns$words[at], function(word) say_word(study$rows, "x", call("^", word, power)))
    columns$words <- c(columns$words, words)
    columns$names <- c(columns$names, sprintf("%s^%d", numeric, power))
  }
  columns
}

# Which arms are weighted, and towards whom (core_balancing_targets()): named calls.
remote_targets <- function(estimand) {
  switch(population_of(estimand),
    treated = list(control = arm_words$treated), control = list(treated = arm_words$control),
    everybody = list(treated = 1, control = 1)
  )
}

# Entropy weights of one arm: list(weight, residual: words, beta, covariance, of the columns as words, aliased).
remote_balance_arm <- function(study, columns, s, name, target, call) {
  rows <- study$rows
  words <- c(list(1), columns$words)
  own <- say_word(rows, "s", call("*", s, arm_words[[name]]))
  sought <- if (identical(target, 1)) s else say_word(rows, "s", call("*", s, target))
  sums <- row_sums(rows, c(list(own), lapply(words, function(word) multiplied(sought, word))))
  pull <- unname(sums[-1L])
  q <- length(words)
  at <- function(beta) {
    scratch <- scratch_rows(rows)
    linear <- say_word(scratch, "l", line_of(columns$words, beta[-1L], beta[1L]))
    weight <- say_word(scratch, "h", bquote(.(own) * exp(.(bounded_linear(linear, most_linear)))))
    found <- row_sums(scratch, unname(products_with(weight, columns$words)))
    information <- symmetric_of(found, q)
    list(value = -found[1L], gradient = -information[, 1L], information = information)
  }
  reach <- function(direction, by_arm) {
    scratch <- scratch_rows(rows)
    along <- say_word(scratch, "a", line_of(columns$words, direction[-1L], direction[1L]))
    ends <- row_ends_inside(scratch, list(along), own)
    c(ends$least, ends$most)
  }
  fit <- core_meet_moments(list(at = at, reach = reach), c(log(pull[1L] / sums[1L]), numeric(q - 1L)), pull)
  check_remote_balanced(fit, columns, own, pull, name, rows, call)
  aliased <- core_repeated_columns(fit$information)
  linear <- say_word(rows, "l", line_of(columns$words, fit$coefficients[-1L], fit$coefficients[1L]))
  weight <- say_word(rows, "w", bquote(exp(.(bounded_linear(linear, most_linear)))))
  list(weight = weight, beta = fit$coefficients, covariance = inverse_information(fit$information, aliased),
       aliased = setdiff(aliased - 1L, 0L), residual = say_word(rows, "r", bquote((.(sought) - .(own) * .(weight)))))
}

# As check_balanced(), from what the fit leaves of each moment.
check_remote_balanced <- function(fit, columns, own, pull, name, rows, call) {
  left <- abs(fit$gradient[-1L]) / pull[1L]
  target <- pull[-1L] / pull[1L]
  if (fit$status == "converged" && all(left <= 1e-8 + 1e-8 * abs(target))) return(invisible(fit))
  ends <- row_ends_inside(rows, columns$words, own)
  at_end <- ends$least < ends$most & (target == ends$least | target == ends$most)
  beyond <- target > ends$most | target < ends$least | at_end
  stop_not_balanced(columns$names, beyond, left, name, call, remote = TRUE)
}

# The logit score of the balancing conditions and its inverse weights, see balancing_score_weights().
remote_balancing_score <- function(x, call) {
  study <- study_of(x)
  rows <- study$rows
  s <- remote_kept_weight(x)
  matrix <- remote_matrix(study$columns[if (is.null(study$formula)) names(study$columns) else all.vars(study$formula)],
                          study$formula)
  columns <- remote_standardised(study, matrix)
  fit <- switch(population_of(study$estimand),
    everybody = balancing_fit(study, columns, s, "counterpoise", call),
    score = balancing_fit(study, columns, s, "logit", call),
    odds_fit(study, columns, s, call)
  )
  raw <- raw_scale(fit$beta, fit$covariance, columns)
  names <- c("(intercept)", matrix$names)
  dimnames(raw$covariance) <- list(names, names)
  score <- list(
    link = "logit", terms = study_terms(study), formula = study$formula, columns = names(study$columns), lone = NULL,
    linear = fit$linear, fitted = fit$mean, slope = fit$slope, coefficients = stats::setNames(raw$coefficients, names),
    covariance = raw$covariance, aliased = matrix$names[fit$aliased], known = FALSE,
    settings = list(source = "balancing"), nuisance = fit_nuisance(fit, columns), inside = NULL,
    fitted_to = s
  )
  score$ends <- score_ends(study, score, s)
  c(remote_inverse(rows, score, study$estimand), list(score = score))
}

balancing_fit <- function(study, columns, s, link, call) {
  share <- columns$products$treated / columns$products$total
  fit <- fit_remote(study$rows, columns, quote(u_z), s, link, stats::qlogis(share))
  check_remote_fit(fit, columns, call)
  fit
}

# ATT, ATC: the odds of the arm to be weighted are the entropy weights of the means, see odds_score().
odds_fit <- function(study, columns, s, call) {
  rows <- study$rows
  target <- remote_targets(study$estimand)
  side <- if (names(target) == "control") 1 else -1
  fit <- remote_balance_arm(study, columns, s, names(target), target[[1L]], call)
  beta <- side * fit$beta
  linear <- say_word(rows, "l", line_of(columns$words, beta[-1L], beta[1L]))
  said <- link_words_of(rows, "logit", linear, quote(u_z))
  list(linear = linear, mean = said$mean, slope = said$slope, beta = beta, covariance = fit$covariance,
       aliased = fit$aliased, residual = if (side > 0) fit$residual else say_word(rows, "r", call("-", fit$residual)))
}
