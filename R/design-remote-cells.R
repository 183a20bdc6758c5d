# Strata of the score and cells of equal or binned covariates on a table in a database: a unit's cell is a word, the
# totals of the cells come from one pass that groups by it.

# A table of numbers by a word: value[k] where codes[k] <= word < codes[k + 1], codes rising and the word one of them.
# Neighbours with the same value are said once. Two steps find it, as in cut_word().
look_up_word <- function(word, codes, values) {
  first <- c(TRUE, diff(values) != 0)
  stepped_word(quote(below), word, codes[first][-1L], as.list(values[first]))
}

# Where the sums by cell are: rows in the order of cell numbers 1, 2, ...
sums_by_cell <- function(rows, exprs, cell, cells) {
  key <- as.character(cell)
  found <- row_sums_by(rows, exprs, key)
  at <- match(seq_len(cells), found[[key]])
  out <- as.matrix(found[at, names(exprs), drop = FALSE])
  out[is.na(out)] <- 0
  rownames(out) <- NULL
  out
}

# Units with weight (n) and their weight (s) by cell and arm.
cell_totals_words <- function(s) {
  of <- function(what) stats::setNames(lapply(arm_words, function(arm) call("*", what, arm)), names(arm_words))
  c(stats::setNames(of(kept_call(s)), c("n_treated", "n_control")), stats::setNames(of(s), c("s_treated", "s_control")))
}

remote_strata <- function(x, strata, breaks_on, call) {
  study <- x$study
  rows <- study$rows
  s <- remote_kept_weight(x)
  breaks <- if (is.numeric(breaks_on)) breaks_on else remote_breaks(x, strata, breaks_on, call)
  cells <- length(breaks) + 1L
  set <- say_word(rows, "k", stepped_word(quote(upto), x$score$fitted, breaks, as.list(as.double(seq_len(cells)))))
  if (!is.null(x$kept_word)) set <- say_word(rows, "k", call("*", set, x$kept_word))
  totals <- sums_by_cell(rows, cell_totals_words(s), set, cells)
  check_stratum_counts(totals[, c("n_treated", "n_control"), drop = FALSE], c(0, breaks, 1), call)
  factors <- core_stratum_factors(list(treated = totals[, "s_treated"], control = totals[, "s_control"]),
                                  population_of(study$estimand))
  scale <- sum(totals[, 1:2]) / sum(totals[, 3:4] * unlist(factors))
  factors <- lapply(factors, `*`, scale)
  made <- remote_cells(x, set, totals, factors)
  table <- data.frame(stratum = seq_len(cells), low = c(0, breaks), high = c(breaks, 1), treated = totals[, 1L],
                      control = totals[, 2L], weight_treated = factors$treated, weight_control = factors$control)
  source <- if (is.numeric(breaks_on)) "given breaks" else paste("quantiles of", breaks_on)
  step <- list(verb = "stratify", strata = cells, breaks = breaks, label = sprintf("%d strata (%s)", cells, source))
  nuisance <- made$nuisance
  if (has_likelihood_score(x)) nuisance <- joined_nuisance(nuisance, remote_strata_nuisance(x, s, set, made, cells))
  design <- new_remote_design(x, step, kind = "strata", weight = made$weight, nuisance = nuisance,
                              cells = list(set = set, count = cells),
                              weighing = list(method = "strata", breaks = breaks, free = TRUE, table = table))
  design <- amend(design, moments = design_moments(design))
  log_design(design, "stratify", sprintf("smallest cell %.0f", min(totals[, 1:2])),
             list(strata = cells, breaks_on = breaks_on, breaks = breaks))
}

# As quantile_breaks(), of bins where there are many rows.
remote_breaks <- function(x, strata, on, call) {
  scores <- remote_scores(x)
  inside <- scores$s > 0 & switch(on, all = TRUE, treated = scores$z == 1L, control = scores$z == 0L)
  breaks <- core_weighted_quantiles(scores$e[inside], scores$s[inside], seq_len(strata - 1L) / strata)
  distinct_breaks(breaks, max(scores$e[scores$s > 0]), strata, on, call)
}

# Weights of cells and how the estimation of their totals enters (core_stratum_nuisance()).
remote_cells <- function(x, set, totals, factors) {
  study <- study_of(x)
  rows <- study$rows
  s <- remote_kept_weight(x)
  size <- list(treated = totals[, "s_treated"], control = totals[, "s_control"])
  numbers <- as.double(seq_len(nrow(totals)))
  by_arm <- function(values) {
    if (length(unique(unlist(values))) == 1L) return(values$treated[1L])
    of <- lapply(values, function(own) look_up_word(set, c(0, numbers), c(0, own)))
    bquote(ifelse(u_z == 1, .(of$treated), .(of$control)))
  }
  weight <- say_word(rows, "w", by_arm(factors))
  list(weight = weight, nuisance = list(
    gradient = function(v) {
      v <- multiplied(v, weight)
      parts <- sums_by_cell(rows, lapply(arm_words, function(arm) call("*", v, arm)), set, nrow(totals))
      core_stratum_gradient(list(treated = parts[, 1L], control = parts[, 2L]), size, study$estimand)
    },
    influence = function(u) {
      always <- sum(u$treated * size$treated + u$control * size$control) / rows$count
      bquote(.(s) * .(by_arm(u)) - .(always))
    }
  ))
}

# The score behind strata: core_matched_nuisance() with core_cell_residual().
remote_strata_nuisance <- function(x, s, set, made, cells) {
  rows <- x$study$rows
  said <- remote_log_slope(rows, x$score, x$study$estimand)
  linear <- x$score$linear
  weight <- say_word(rows, "v", call("*", s, made$weight))
  list(
    gradient = function(v) {
      y <- say_word(rows, "y", bquote(ifelse(.(s) > 0, .(v) / ifelse(.(s) > 0, .(s), 1), 0)))
      residual <- lapply(arm_words, function(arm) cell_residual_word(arm, rows, y, linear, set, weight, cells))
      own <- bquote(ifelse(u_z == 1, .(residual$treated), .(residual$control)))
      moved <- say_word(rows, "d", bquote(.(weight) * .(said) * .(own)))
      row_sums(rows, unname(lapply(x$score$nuisance$moments, function(m) multiplied(moved, m))))
    },
    influence = x$score$nuisance$influence
  )
}

# d log(inverse weight) / d(linear score), see log_weight_slope().
remote_log_slope <- function(rows, score, estimand) {
  e <- score$fitted
  said <- tilt_words(estimand, e)
  own <- say_word(rows, "o", bquote(ifelse(u_z == 1, .(e), 1 - .(e))))
  say_word(rows, "d", bquote(((.(said$slope)) / (.(said$tilt)) - (2 * u_z - 1) / .(own)) * .(score$slope)))
}

# y about its mean in the cell of an arm, and about a common slope on the linear score.
cell_residual_word <- function(arm, rows, y, linear, set, weight, cells) {
  w <- call("*", weight, arm)
  exprs <- list(w = w, y = call("*", w, y), l = call("*", w, linear), ly = bquote(.(w) * .(linear) * .(y)),
                ll = bquote(.(w) * .(linear) * .(linear)))
  sums <- as.data.frame(sums_by_cell(rows, exprs, set, cells))
  mean <- lapply(sums[c("y", "l")], function(of) ifelse(sums$w > 0, of / sums$w, 0))
  spread <- sum(sums$ll - sums$w * mean$l^2)
  slope <- if (spread > 0) sum(sums$ly - sums$w * mean$l * mean$y) / spread else 0
  numbers <- c(0, as.double(seq_len(cells)))
  middle <- mean$y - slope * mean$l
  bquote(.(y) - .(slope) * .(linear) - .(look_up_word(set, numbers, c(0, middle))))
}

most_cells <- 5000L

# Exact and coarsened matching; see cell_sets().
remote_cell_sets <- function(x, method, covariates, bins, call) {
  study <- study_of(x)
  rows <- study$rows
  names <- cell_covariates(study, covariates, call)
  check_bin_names(bins, names, call)
  s <- remote_kept_weight(x)
  ends <- if (method == "coarsened") kept_ends(x, names)
  parts <- lapply(stats::setNames(nm = names), function(name) {
    remote_bins(study, name, method, bins[[name]], ends[[name]], sum(x$size), call)
  })
  base <- vapply(parts, function(part) length(part$labels), 0L)
  radix <- c(1, cumprod(as.double(base))[-length(base)])
  if (prod(as.double(base)) > 2^53) stop_many_cells("Their values can be combined in more than 2^53 ways.", call)
  code <- say_word(rows, "k", sum_of(Map(function(part, r) bquote((.(part$word) - 1) * .(r)), parts, radix)))
  found <- row_sums_by(rows, c(cell_totals_words(s), list(all = 1)), as.character(code))
  both <- found$n_treated > 0 & found$n_control > 0
  before <- colSums(found[c("n_treated", "n_control")])
  if (!any(both)) {
    abort_input(c(
      "No cell holds both treated and control units.",
      x = "The {length(names)} covariates make {count_text(sum(found$n_treated + found$n_control > 0))} cells of
           {count_text(sum(before))} units.",
      i = "Use fewer covariates or wider bins."
    ), call = call)
  }
  if (sum(both) > most_cells) stop_many_cells(sprintf("%s have both arms.", count_text(sum(both))), call)
  codes <- found[[1L]]
  number <- ifelse(both, cumsum(both), 0)
  set <- say_word(rows, "k", look_up_word(code, codes, as.double(number)))
  set <- say_word(rows, "k", bquote(ifelse(.(s) > 0, .(set), 0)))
  kept <- say_word(rows, "k", bquote(ifelse(.(set) > 0, 1, 0)))
  totals <- as.matrix(found[both, 2:5])
  rownames(totals) <- NULL
  sums <- list(treated = totals[, "s_treated"], control = totals[, "s_control"])
  factors <- core_stratum_factors(sums, population_of(study$estimand))
  step <- list(verb = "group", label = cell_label(method, covariates, names), method = method, covariates = covariates,
               bins = bins)
  size <- c(treated = sum(totals[, 1L]), control = sum(totals[, 2L]))
  inside <- if (inherits(x, "twin_design")) amend(x, kept_word = kept) else new_remote_design(x, step, kept = kept)
  sought <- population_of(study$estimand)
  if (sought != "everybody") {  # see core_scale_other_arm
    other <- setdiff(names(sums), sought)
    factors[[other]] <- factors[[other]] * sum(sums[[other]]) / sum(sums[[sought]])
  }
  made <- remote_cells(inside, set, totals, factors)
  weight <- say_word(rows, "w", call("*", made$weight, kept))
  table <- data.frame(set = seq_len(sum(both)), treated = totals[, 1L], control = totals[, 2L],
                      weight_treated = totals[, 1L] * factors$treated, weight_control = totals[, 2L] * factors$control)
  design <- new_remote_design(
    x, step[!vapply(step, is.null, NA)], kind = "cells", kept = kept, weight = weight, nuisance = made$nuisance,
    weighing = list(method = "cells", bins = remote_bin_table(parts, codes, found$all, radix, base), free = TRUE,
                    table = table),
    cells = list(set = set, count = nrow(table), out = x$size - size),
    note = partner_note(study$estimand, size, c(treated = before[[1L]], control = before[[2L]])), size = size
  )
  design <- amend(design, moments = design_moments(design))
  log_design(design, "group", sprintf("%d sets; without an exact partner: %.0f treated, %.0f control", nrow(table),
                                      design$cells$out[["treated"]], design$cells$out[["control"]]),
             step[c("method", "covariates", "bins")])
}

stop_many_cells <- function(what, call) {
  abort_unsupported(c(
    "The covariates make too many cells for a database: {count_text(most_cells)} at most.", x = what,
    i = "Use fewer {.arg covariates}, or {.code method = \"coarsened\"} and wide {.arg bins}."
  ), call = call)
}

# Least and greatest value of numeric covariates among the units that are in.
kept_ends <- function(x, names) {
  study <- study_of(x)
  columns <- Filter(function(column) column$kind != "factor", study$columns[names])
  if (length(columns) == 0L) return(list())
  ends <- row_ends_inside(study$rows, lapply(columns, `[[`, "word"), remote_kept_weight(x))
  lapply(stats::setNames(seq_along(columns), names(columns)), function(k) c(ends$least[k], ends$most[k]))
}

# A binned column: word, its bins 1, 2, ..., and their labels. Missing values have a bin of their own.
remote_bins <- function(study, name, method, bins, ends, n, call) {
  column <- study$columns[[name]]
  whole <- function(k) as.list(as.double(k))
  if (column$kind == "factor") {
    levels <- list(levels = column$levels, values = seq_along(column$levels), kind = "factor", flag = NULL)
    own <- level_bins(levels, name, bins, call)
    return(list(word = stepped_word(quote(below), column$word, seq_along(own$code)[-1L] + 0, whole(own$code)),
                labels = own$labels))
  }
  if (method == "exact" || (column$kind == "binary" && is.null(bins))) {
    values <- row_sums_by(study$rows, list(n = 1), as.character(column$word))[[1L]]
    if (length(values) > most_cells) {
      stop_many_cells(sprintf("\"%s\" alone has %s values.", name, count_text(length(values))), call)
    }
    word <- stepped_word(quote(below), column$word, values[-1L], whole(seq_along(values)))
    labels <- format(values, trim = TRUE)
  } else {
    cuts <- cut_points(bins, ends, n, name, call)
    word <- stepped_word(quote(below), column$word, cuts, whole(seq_len(length(cuts) + 1L)))
    edges <- number_text(c(ends[1L], cuts, ends[2L]))
    labels <- paste(edges[-length(edges)], "to", edges[-1L])
  }
  if (is.null(column$flag)) return(list(word = word, labels = labels))
  list(word = bquote(ifelse(.(column$flag) > 0, .(as.double(length(labels) + 1L)), .(word))),
       labels = c(labels, missing_level))
}

# As bin_table(): units by bin, from the cells' codes.
remote_bin_table <- function(parts, codes, count, radix, base) {
  rows <- Map(function(part, name, r, b) {
    bin <- (codes %/% r) %% b + 1
    data.frame(covariate = name, bin = seq_along(part$labels), holds = part$labels,
               units = as.integer(core_sums_by(count, bin, b)))
  }, parts, names(parts), radix, base)
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}

# The difference within each stratum: list(estimate, terms), see stratum_differences().
remote_stratum_differences <- function(rows, block) {
  cells <- block$x$cells
  set <- cells$set
  exprs <- unlist(lapply(arm_words, function(arm) {
    own <- call("*", block$s, arm)
    list(n = kept_call(own), s = own, y = call("*", own, block$y))
  }))
  sums <- as.data.frame(sums_by_cell(rows, exprs, set, cells$count))
  strata <- which(sums$treated.n > 0 & sums$control.n > 0)
  names(strata) <- paste("stratum", strata)
  mean <- list(treated = sums$treated.y / sums$treated.s, control = sums$control.y / sums$control.s)
  terms <- lapply(strata, function(k) {
    away <- Map(function(arm, name) {
      bquote(.(arm) * (.(block$y) - .(mean[[name]][k])) / .(sums[[paste0(name, ".s")]][k]))
    }, arm_words, names(arm_words))
    list(own = bquote(.(block$s) * ifelse(.(set) == .(as.double(k)), .(away$treated) - .(away$control), 0)),
         carries = list())
  })
  list(estimate = stats::setNames((mean$treated - mean$control)[strata], names(strata)), terms = terms)
}

# What small cells leave out of the variances of the two means, see core_cell_shortfall().
remote_shortfalls <- function(rows, block) {
  cells <- block$x$cells
  y <- say_word(rows, "y", call("-", block$y, block$centre))
  population <- population_of(study_of(block$x)$estimand)
  target <- if (population == "everybody") block$s else call("*", block$s, arm_words[[population]])
  exprs <- c(unlist(lapply(arm_words, function(arm) {
    own <- call("*", block$s, arm)
    used <- kept_call(own)
    list(s = own, n = used, y = call("*", used, y), y2 = bquote(.(used) * .(y) * .(y)))
  })), list(target = target))
  sums <- as.data.frame(sums_by_cell(rows, exprs, cells$set, cells$count))
  diag(vapply(names(arm_words), function(arm) {
    of <- function(what) sums[[paste0(arm, ".", what)]]
    inside <- of("n") > 0
    n <- of("n")[inside]
    core_cell_shortfall_of(of("s")[inside], sums$target[inside], n, (of("y2") - of("y")^2 / pmax(of("n"), 1))[inside],
                           sum(sums$target))
  }, 0))
}
