# Levels, and missing values, that only one arm has. No finite score exists with them, and units who have them look like
# nobody in the other arm there; the score treats such units by their other covariates.

# list(covariate = list(levels = codes, flag = logical)) of the columns that have any among the units with weight. A
# factor keeps at least two levels, else the factor itself separates the arms, and check_fit() says so.
lone_levels <- function(columns, z, weight) {
  found <- lapply(columns, function(column) {
    codes <- if (column$kind == "factor") lone_codes(column$values, length(column$levels), z, weight) else integer()
    if (length(column$levels) - length(codes) < 2L) codes <- integer()
    flag <- !is.null(column$flag) && 2L %in% lone_codes(column$flag + 1, 2L, z, weight)
    if (length(codes) > 0L || flag) list(levels = codes, flag = flag)
  })
  Filter(Negate(is.null), found)
}

# Codes that occur in one arm and not in the other. values: codes 1..count.
lone_codes <- function(values, count, z, weight) {
  occurs <- core_level_totals(values, count, z, weight) > 0
  which(occurs[, 1L] != occurs[, 2L])
}

# Columns in which units at lone levels count as being at the commonest other one, and lone indicators of missing values
# are left out.
pool_levels <- function(columns, lone) {
  for (name in intersect(names(lone), names(columns))) {
    column <- columns[[name]]
    codes <- lone[[name]]$levels
    if (length(codes) > 0L) {
      count <- tabulate(column$values, length(column$levels))
      count[codes] <- -1L
      to <- replace(seq_along(count), codes, which.max(count))
      left <- setdiff(seq_along(count), codes)
      column$values <- match(to[column$values], left)
      column$levels <- column$levels[left]
    }
    if (lone[[name]]$flag) column$flag <- NULL
    columns[[name]] <- column
  }
  columns
}

# The columns and formula of a score's model, with their lone levels pooled.
score_model <- function(x, model, call) {
  study <- study_of(x)
  terms <- model_terms(study, model, call)
  terms$lone <- lone_levels(terms$columns, study$z, kept_weight(x))
  terms$columns <- pool_levels(terms$columns, terms$lone)
  warn_lone_levels(terms$lone, study, kept_weight(x) > 0)
  terms
}

# One row per lone level: its name in messages, and how many units have it in the arm that does.
lone_table <- function(lone, study, kept) {
  rows <- Map(function(entry, name) {
    column <- study$columns[[name]]
    at <- c(lapply(entry$levels, function(code) column$values == code), if (entry$flag) list(column$flag == 1))
    level <- c(column$levels[entry$levels], if (entry$flag) missing_level)
    data.frame(covariate = name, level = level,
               treated = vapply(at, function(hit) sum(hit & kept & study$z == 1L), 0L),
               control = vapply(at, function(hit) sum(hit & kept & study$z == 0L), 0L))
  }, lone, names(lone))
  do.call(rbind, unname(rows))
}

lone_phrases <- function(table) {
  sprintf("%s (%s)", row_name(table$covariate, table$level),
          ifelse(table$treated > 0L, paste(count_text(table$treated), "treated, no control"),
                 paste("no treated,", count_text(table$control), "control")))
}

warn_lone_levels <- function(lone, study, kept) warn_lone_table(lone_table(lone, study, kept))

# table: of lone_table(), NULL when there is nothing to tell.
warn_lone_table <- function(table) {
  if (NROW(table) == 0L) return(invisible(table))
  warn_kind("one_arm", c(
    "The score leaves out {nrow(table)} level{?s} that only one arm has: {lone_phrases(table)}.",
    i = "{cli::qty(sum(table$treated + table$control))}{?This unit is/These units are} scored by {?its/their} other
         covariates; nobody in the other arm is like {?it/them} in this one, and the balance table shows it. Merge
         levels, match exactly on the column, or leave {?it/them} out with {.arg subset}."
  ), covariates = table$covariate, levels = table$level)
}
