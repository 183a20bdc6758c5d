# The regression that probes of an omitted variable lean on, of a table in a database.

# As effect_regression(): one pass for the cross-products, one for the robust variance.
remote_effect_regression <- function(x, before, call) {
  block <- x$source$block
  study <- study_of(x)
  rows <- study$rows
  v <- if (before) remote_block(study, list(outcome = block$outcome, inside = block$inside), x$source$asked)$s else block$v
  terms <- model_terms(study, outcome_formula(x$source$asked, block), call)
  matrix <- remote_matrix(terms$columns, terms$formula)
  columns <- remote_standardised(study, matrix)
  y <- say_word(rows, "y", call("-", block$y, block$centre))
  z <- bquote((u_z - .(study$size[["treated"]] / sum(study$size))))
  words <- c(list(say_word(rows, "c", z)), columns$words, list(y))
  products <- products_with(v, words)
  sums <- row_sums(rows, unname(c(products, list(kept_call(v)))))
  q <- length(words) + 1L
  second <- symmetric_of(sums[seq_along(products)], q) / sums[1L]
  mean <- second[-1L, 1L]
  n <- sums[length(sums)]
  gram <- n * (second[-1L, -1L] - tcrossprod(mean))
  length_of <- sqrt(pmax(diag(gram), 1e-300))
  length_of[c(1L, q - 1L)] <- 1
  gram <- gram / outer(length_of, length_of)
  fit <- core_treatment_fit(gram, n)
  check_regression_fit(x, fit, call)
  if (before) return(c(fit, list(about = list(outcome = x$outcome))))
  influence <- regression_influence(rows, v, words, mean, length_of, fit, n / sums[1L])
  keys <- remote_keys(study)["cluster"[!is.null(study$cluster)]]
  robust <- core_vcov_of(influence_sums(rows, list(f = influence), keys, kept_call(v)))
  fit$inflation <- sqrt(robust$vcov[1L]) / fit$se
  fit$clusters_df <- if (length(keys) > 0L) robust$clusters - 1 else Inf
  fit$names <- matrix$names
  fit$about <- regression_about(x, terms, if (length(keys) > 0L) "clustered" else "robust")
  fit
}

# A row's contribution to the coefficient of the treatment: what covariates leave of it times what the regression leaves
# of the outcome. scale: of weights that sum to the number of units.
regression_influence <- function(rows, v, words, mean, length_of, fit, scale) {
  own <- fit$kept + 1L
  inside <- seq_along(own) + 1L
  slopes <- solve_gram(fit$gram[inside, inside, drop = FALSE], fit$gram[inside, c(1L, nrow(fit$gram)), drop = FALSE])
  left <- function(word, k, slope) {
    d <- -slope / length_of[own]
    line <- line_of(words[own], d, -mean[k] - sum(d * mean[own]))
    say_word(rows, "r", call("+", word, line))
  }
  last <- length(words)
  of_z <- left(words[[1L]], 1L, slopes[, 1L])
  of_y <- left(words[[last]], last, slopes[, 2L])
  say_word(rows, "f", bquote(.(v) * .(scale / fit$spread) * .(of_z) * (.(of_y) - .(fit$estimate) * .(of_z))))
}
