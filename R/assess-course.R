# Balance of treatment over time, by period and by treatment before (Jackson 2016).

course_balance <- function(x, limit, given, call = rlang::caller_env()) {
  refuse_stray(setdiff(given, c("x", "limit")), "treatment over time", "Its balance is judged by period and treatment
               before; only {.arg limit} can be chosen.", call)
  limit <- balance_limits(limit, NULL, call)$smd
  rows <- course_gaps(x)
  rows$pass <- ifelse(is.na(rows$smd), NA, abs(rows$smd) <= limit)
  balance <- structure(list(
    rows = rows, limit = limit, study = x$base, roles = x$roles, periods = x$at$periods,
    labels = vapply(x$base$columns, `[[`, "", "label"), design = question_label(x), weighted = !is.null(x$weight),
    effective = effective_courses(x), units = length(x$at$names), weights = course_weight_table(x)
  ), class = "twin_course_balance")
  judged <- glance.twin_course_balance(balance)
  log_once(x$base, "judge", paste("balance of", balance$design), sprintf("%d of %d rows pass", judged$passing,
                                                                         judged$rows), list(limit = limit))
  balance
}

# How running weights spread, by period.
course_weight_table <- function(x) {
  if (is.null(x$weight)) return(NULL)
  s <- sampling_weight(x$base)
  do.call(rbind, lapply(seq_along(x$at$periods), function(t) {
    rows <- which(x$at$period == t & s > 0)
    q <- core_weighted_quantiles(x$weight[rows], s[rows], c(0.01, 0.25, 0.5, 0.75, 0.99))
    v <- s[rows] * x$weight[rows]
    data.frame(period = x$at$periods[t], units = length(rows), mean = sum(v) / sum(s[rows]),
               least = min(x$weight[rows]),
               q01 = q[1L], q25 = q[2L], median = q[3L], q75 = q[4L], q99 = q[5L], greatest = max(x$weight[rows]),
               effective = core_effective_size_of(sum(v), sum(v^2)))
  }))
}

judged_course <- function(x) x$rows[x$rows$sample == if (x$weighted) "after" else "before", ]

#' @export
tidy.twin_course_balance <- function(x, part = c("rows", "weights"), ...) { # nolint: object_name_linter.
  rlang::check_dots_empty()
  part <- check_choice(part, c("rows", "weights"))
  x[[part]]
}

#' @export
as.data.frame.twin_course_balance <- function(x, ...) x$rows

#' @export
glance.twin_course_balance <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- judged_course(x)
  rows <- rows[!is.na(rows$smd), ]
  worst <- which.max(abs(rows$smd))
  data.frame(rows = nrow(rows), passing = sum(rows$pass), worst_smd = abs(rows$smd[worst]),
             worst_covariate = row_name(rows$covariate[worst], rows$level[worst]), worst_period = rows$period[worst],
             worst_had = rows$had[worst], effective = x$effective)
}
