# Group-time effects of a panel in a database, adjusted by regression (Sant'Anna & Zhao 2020, the outcome regression):
# the change of treated units less what a regression among the comparison units predicts for their covariates in the
# base period. Sums of cross-products by cohort give every cell; its contributions are words, whose squares are summed
# by cohort, or which are summed by cluster.

# What a cell is made of. Panels have one leg, the change between two periods among units seen in both; cross-sections
# two, the levels in the period and, less, in the base period. list(sign, seen: call, 1 where a row takes part; y: call;
# x: calls).
cell_legs <- function(panel, words, time, base) {
  if (panel$repeats) {
    return(list(list(sign = 1, seen = multiplied(words$known[[time]], words$known[[base]]),
                     y = call("-", words$y[[time]], words$y[[base]]), x = words$x[[base]])))
  }
  lapply(list(c(1, time), c(-1, base)), function(leg) {
    at <- call("==", quote(u_t), leg[2L])
    list(sign = leg[1L], seen = bquote(ifelse(.(at), .(words$known), 0)), y = words$y, x = words$x)
  })
}

# list(cells, estimate, source, ...) as every estimate returns; opened: open_remote_panel() of the outcome.
remote_group_time <- function(panel, opened, asked, call = rlang::caller_env(2)) {
  cells <- plan_cells(panel, asked)
  compare <- compared_cohorts(panel, cells, asked)
  cells$reason[is.na(cells$reason) & lengths(compare) == 0L] <- "no units left to compare with"
  asks <- which(is.na(cells$reason) & cells$kind != "base")
  if (length(asks) == 0L) stop_no_cell(cells, asked, call)
  rows <- adjusted_rows(panel, opened, unique(cells$base[asks]))
  legs <- lapply(asks, function(k) cell_legs(panel, rows$words, cells$time[k], cells$base[k]))
  sums_of <- leg_sums(rows, unlist(legs, recursive = FALSE))
  found <- Map(function(k, own) {
    lapply(own, function(leg) fit_leg(sums_of(leg), leg, cells$cohort[k], compare[[k]], rows$place))
  }, asks, legs)
  good <- vapply(found, function(own) all(vapply(own, function(leg) !is.null(leg$estimate), NA)), NA)
  total <- function(cells, name) vapply(cells, function(own) sum(vapply(own, `[[`, 0, name)), 0)
  cells[c("estimate", "n_treated", "n_comparison")] <- NA_real_
  cells$estimate[cells$kind == "base" & is.na(cells$reason)] <- 0
  cells$estimate[asks[good]] <- total(found[good], "estimate")
  for (name in c("n_treated", "n_comparison")) cells[[name]][asks] <- total(found, name)
  lacking <- ifelse(cells$n_treated[asks[!good]] > 0, "comparison", "cohort")
  cells$reason[asks[!good]] <- sprintf("nobody of the %s seen %s", lacking,
                                       if (panel$repeats) "in both periods" else "in one of the periods")
  if (!any(good)) stop_no_cell(cells, asked, call)
  of_cells <- function(name) lapply(found[good], function(own) sum_of(lapply(own, `[[`, name)))
  c(list(cells = cells, estimate = cells$estimate, fixed = FALSE,
         notes = c(varying_note(panel, asked), unseen_note(opened$panel, opened$y, asked)),
         size = core_sums_by(panel$s[panel$first_row], panel$cohort, nrow(panel$cohorts))),
    adjusted_source(panel, rows, of_cells("contribution"), of_cells("present"), asks[good], nrow(cells)))
}

# One row per unit: list(rows, words, place: of each cohort among the onsets that u_o numbers).
adjusted_rows <- function(panel, opened, bases) {
  table <- panel$table
  all_seen <- is_complete(opened$panel, opened$y)
  source <- table$source
  source$from <- unit_rows_sql(table, c(opened$outcome, list(x = panel$design)), bases)
  periods <- seq_along(table$time$position)
  covariates <- seq_along(panel$design)
  word <- function(stem, k) lapply(k, function(one) as.name(sprintf("u_%s%s", stem, one)))
  names <- c("s", "o", names(c(h = table$roles$group, g = table$roles$cluster)))
  if (panel$repeats) {
    words <- list(y = word("y", periods), known = if (all_seen) rep(list(1), length(periods)) else word("k", periods),
                  x = lapply(periods, function(base) word("x", sprintf("%d_%d", base, covariates))))
    names <- c(names, paste0("y", periods), paste0("k", periods),
               sprintf("x%d_%d", rep(bases, each = length(covariates)), covariates))
  } else {
    words <- list(y = quote(u_y), known = quote(u_k), x = word("x", covariates))
    names <- c(names, "t", "y", "k", paste0("x", covariates))
  }
  list(rows = new_rows(source, stats::setNames(names, paste0("u_", names)), character()), words = words,
       place = match(panel$onsets, table$onsets$position))
}

# A function of a leg: its sums in each cohort, as unpacked_sums(), NULL in cohorts without rows. What several legs
# share is asked for once.
leg_sums <- function(rows, legs) {
  exprs <- unlist(lapply(legs, leg_exprs), recursive = FALSE)
  key <- vapply(exprs, deparse1, "")
  first <- which(!duplicated(key))
  sums <- stats::setNames(exprs[first], sprintf("s%d", seq_along(first)))
  found <- piece_sums(rows$rows, sums, "u_o")
  values <- as.matrix(found[names(sums)])
  if (!all(is.finite(values))) stop_not_finite(rows$rows)
  at <- match(found$u_o, rows$place)
  function(leg) {
    own <- values[, match(vapply(leg_exprs(leg), deparse1, ""), key[first]), drop = FALSE]
    lapply(seq_along(rows$place), function(h) if (h %in% at) unpacked_sums(own[match(h, at), ], length(leg$x) + 1L))
  }
}

# Rows, s x x' above and on its diagonal, s x y; x with the constant.
leg_exprs <- function(leg) {
  s <- multiplied(leg$seen, quote(u_s))
  x <- c(list(1), leg$x)
  pairs <- which(lower.tri(diag(length(x)), diag = TRUE), arr.ind = TRUE)
  c(list(if (identical(leg$seen, 1)) quote(0 * u_s + 1) else leg$seen),
    lapply(seq_len(nrow(pairs)), function(k) Reduce(multiplied, c(list(s), x[pairs[k, ]]))),
    lapply(x, function(column) multiplied(multiplied(s, column), leg$y)))
}

# list(n, second: cross-products, xy).
unpacked_sums <- function(v, size) {
  above <- seq_len(size * (size + 1L) / 2L)
  list(n = v[[1L]], second = symmetric_of(v[1L + above], size), xy = unname(v[-c(1L, 1L + above)]))
}

# list(estimate, n_treated, n_comparison, contribution, present: calls); the counts alone where a side has no rows.
# Treated rows contribute what they lie above the prediction, comparison rows their residual by their pull on it.
fit_leg <- function(sums, leg, cohort, compare, place) {
  own <- sums[[cohort]]
  pooled <- function(name) Reduce(`+`, lapply(Filter(Negate(is.null), sums[compare]), `[[`, name), 0)
  counts <- list(n_treated = if (is.null(own)) 0 else own$n, n_comparison = pooled("n"))
  if (counts$n_treated == 0 || counts$n_comparison == 0) return(counts)
  inverse <- core_solve_scatter(pooled("second"))$inverse
  beta <- drop(inverse %*% pooled("xy"))
  weight <- own$second[1L, 1L]
  target <- own$second[1L, ] / weight
  effect <- own$xy[1L] / weight - sum(target * beta)
  pull <- drop(inverse %*% target)
  left <- call("-", leg$y, line_of(leg$x, beta[-1L], beta[1L]))
  by_side <- function(treated, comparison) {
    is_compared <- call("%in%", quote(u_o), as.call(c(quote(c), place[compare])))
    bquote(ifelse(u_o == .(place[cohort]), .(treated), ifelse(.(is_compared), .(comparison), 0)))
  }
  s <- multiplied(leg$seen, quote(u_s))
  treated <- bquote(.(leg$sign / weight) * .(s) * (.(left) - .(effect)))
  comparison <- bquote(.(-leg$sign) * .(s) * .(line_of(leg$x, pull[-1L], pull[1L])) * .(left))
  c(counts, list(estimate = leg$sign * effect, contribution = by_side(treated, comparison),
                 present = by_side(leg$seen, leg$seen)))
}

# list(source, cluster): contributions are squared and summed by cohort where units are their own clusters, else summed
# by cluster and cohort.
adjusted_source <- function(panel, rows, contributions, present, asks, cells) {
  frame <- rows$rows
  words <- lapply(contributions, function(expr) say_word(frame, "c", expr))
  used <- say_word(frame, "p", bquote(ifelse(.(sum_of(present)) > 0, 1, 0)))
  weight <- say_word(frame, "s", bquote(u_s * .(used)))
  name <- attr(panel$cluster, "name")
  data <- c(list(weight), words)
  if (is_own_remote(panel)) {
    pairs <- which(lower.tri(diag(length(data)), diag = TRUE), arr.ind = TRUE)
    products <- lapply(seq_len(nrow(pairs)), function(k) call("*", data[[pairs[k, 1L]]], data[[pairs[k, 2L]]]))
    exprs <- stats::setNames(c(list(used), data, products), sprintf("s%d", seq_len(1L + length(data) + nrow(pairs))))
    found <- piece_sums(frame, exprs, "u_o")
    values <- as.matrix(found[names(exprs)])
    scatter <- lapply(seq_len(nrow(values)), function(p) {
      symmetric_of(values[p, -seq_len(1L + length(data))], length(data))
    })
    map <- matrix(0, length(data), cells)
    map[cbind(1L + seq_along(asks), asks)] <- 1
    total <- asplit(values[, 1L + seq_along(data), drop = FALSE], 1L)
    source <- core_piece_source(match(found$u_o, rows$place), values[, 1L], total, scatter,
                                rep(list(map), nrow(values)), values[, 1L] > 0)
    return(list(source = source, cluster = structure(seq_len(nrow(values)), name = name)))
  }
  key <- if (is.null(panel$table$roles$cluster)) "u_h" else "u_g"
  exprs <- stats::setNames(c(data, list(used)), sprintf("s%d", seq_len(length(data) + 1L)))
  found <- piece_sums(frame, exprs, c("u_o", key))
  check_piece_count(nrow(found), NULL)
  found <- found[found[[names(exprs)[length(exprs)]]] > 0, ]
  values <- as.matrix(found[sprintf("s%d", seq_along(data))])
  inside <- rep(list(integer()), cells)
  own <- rep(list(numeric()), cells)
  for (k in seq_along(asks)) {
    inside[[asks[k]]] <- which(values[, k + 1L] != 0)
    own[[asks[k]]] <- unname(values[inside[[asks[k]]], k + 1L])
  }
  list(source = core_row_source(unname(values[, 1L]), match(found$u_o, rows$place), inside, own),
       cluster = structure(match(as.character(found[[key]]), attr(panel$cluster, "labels")), name = name))
}

# What needs single units. Without clusters that hold several, those are not known here.
refuse_remote_did <- function(panel, inference, given, collapse, call) {
  refuse_panel_options(intersect(c("third", "affected", "absorb", "factors"), names(Filter(Negate(is.null), given))),
                       call)
  by_cluster <- inference %in% c("wild", "bootstrap") || isTRUE(given$small_sample %in% c("CR2", "CR3"))
  if (by_cluster && is_own_remote(panel)) {
    abort_unsupported(c("Draws and corrections by cluster need clusters of several units, in a database.",
                        x = "Here every {attr(panel$cluster, 'name')} is a cluster of its own.",
                        i = "Name {.arg cluster} or {.arg group} in {.fn frame_panel}."), call = call)
  }
  if (inference == "randomization" && is.null(panel$group)) {
    abort_unsupported(c("Drawing anew who is treated when needs groups, in a database.",
                        i = "Name {.arg group} in {.fn frame_panel}: what is treated as a whole."), call = call)
  }
  if (collapse != "no" && length(panel$columns) > 0L) refuse_panel_options("collapse", call)
}

check_remote_adjustment <- function(panel, estimator, adjustment, call) {
  known <- did_estimators[[estimator]]$remote
  if (length(known) == 0L) {
    abort_unsupported(c("{.code estimator = \"{estimator}\"} needs rows in memory.",
                        i = "Read all rows of some units, and frame them."), call = call)
  }
  asked <- if (is.null(adjustment) && length(panel$columns) > 0L) "regression" else adjustment
  if (!isTRUE(asked %in% setdiff(did_estimators[[estimator]]$adjustments, known))) return(invisible(asked))
  abort_unsupported(c(
    "{.code adjustment = \"{asked}\"} of {.code estimator = \"{estimator}\"} needs rows in memory.",
    i = if ("regression" %in% known) "Use {.code adjustment = \"regression\"}, or read some units whole." else
      "Use {.code adjustment = \"none\"}, or {.code estimator = \"group_time\"}, or read some units whole."
  ), call = call)
}

estimate_remote_did <- function(panel, used, asked) {
  if (asked$adjustment != "none") return(remote_group_time(panel, used, asked))
  found <- estimate_did(used$panel, used$y, asked)
  if (is_own_remote(used$panel)) of_pieces_alone(found, used$panel) else found
}
