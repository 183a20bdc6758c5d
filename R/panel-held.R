# Another treatment that is held (de Chaisemartin & D'Haultfoeuille 2023): effects of one treatment among units whose
# other has run alike. Units are of one cohort where the paths of what is held are the same in all periods; a cell
# compares cohorts whose paths do not differ up to its later period. `held` of the panel: list(names: columns, differ:
# cohorts x cohorts, the first position where their paths differ, Inf where they never do).

is_held <- function(panel) !is.null(panel$held)

# Which cohorts' paths run like that of cohort h up to a position.
held_alike <- function(panel, h, latest) {
  if (!is_held(panel)) return(rep(TRUE, nrow(panel$cohorts)))
  panel$held$differ[h, ] > latest
}

# The paths of what is treated as a whole. list(path: code per row, values: paths x periods (codes of `labels`), labels,
# position: of the periods). A period without a row has what the last one before it had, and those before the first row
# what that has.
held_paths <- function(data, names, roles, level, position, rows, call) {
  if (is.null(level)) {
    abort_input(c("What is held is followed over time, in units or groups.",
                  i = "Name {.arg unit}, or {.arg group} for what is treated as a whole."), call = call)
  }
  code <- lapply(names, function(name) {
    own <- group_codes(data[[name]][rows], name, "held column", rows, call)
    check_whole_groups(as.vector(own), level, position, level_name(roles), name, rows, call)
    own
  })
  labels <- Reduce(function(a, b) paste(a, b, sep = ", "), Map(function(own, name) {
    paste(name, attr(own, "labels")[own])
  }, code, names))
  known <- sort(unique(labels))
  seen <- sort(unique(position))
  values <- matrix(NA_integer_, length(attr(level, "labels")), length(seen))
  values[cbind(as.vector(level), match(position, seen))] <- match(labels, known)
  for (t in seq_along(seen)[-1L]) values[, t] <- ifelse(is.na(values[, t]), values[, t - 1L], values[, t])
  for (t in rev(seq_along(seen))[-1L]) values[, t] <- ifelse(is.na(values[, t]), values[, t + 1L], values[, t])
  key <- do.call(paste, as.data.frame(values))
  first <- !duplicated(key) & !is.na(values[, 1L])
  list(path = match(key, key[first])[level], values = values[first, , drop = FALSE], labels = known, position = seen)
}

# The field `held` of a panel whose cohorts have the codes of their paths.
held_fields <- function(names, paths, code) {
  values <- paths$values[code, , drop = FALSE]
  differ <- matrix(Inf, length(code), length(code))
  for (t in rev(seq_along(paths$position))) differ[outer(values[, t], values[, t], `!=`)] <- paths$position[t]
  list(names = names, differ = differ)
}

# "road no", "road yes from 2018Q1".
held_labels <- function(paths, code, scale) {
  vapply(code, function(k) {
    own <- paths$values[k, ]
    turns <- which(diff(own) != 0L) + 1L
    if (length(turns) == 0L) return(paths$labels[own[1L]])
    shown <- utils::head(turns, 2L)
    paste0(paste(paths$labels[own[shown]], "from", position_label(paths$position[shown], scale), collapse = ", "),
           if (length(turns) > 2L) sprintf(" (path %d)", k))
  }, "")
}

check_can_hold <- function(held, roles, switching, design, data, call) {
  if (!is.character(held) || anyNA(held) || anyDuplicated(held) > 0L || length(held) == 0L) {
    abort_input("{.arg held} must be names of columns in quotes.", call = call)
  }
  check_columns(held, data, "held", call)
  clash <- intersect(held, unlist(roles[c("outcome", "time", "unit", "group", "treatment", "first_treated")]))
  if (length(clash) > 0L) {
    abort_input(c("{.val {clash}} can't be held: {?it has/they have} another role.",
                  i = "Name the other treatment, whose effect is not asked for."), column = clash, call = call)
  }
  what <- if (switching) "treatment that switches" else if (!is.null(design)) "a design"
  if (is.null(what)) return(invisible(held))
  abort_unsupported(c("{.arg held} and {what} don't go together.",
                      i = "Leave one of them out; what is held can be among the covariates."), call = call)
}

# what, instead: in plain words.
refuse_held <- function(panel, what, call = rlang::caller_env(), instead = NULL) {
  if (!is_held(panel)) return(invisible(panel))
  if (is.null(instead)) instead <- "Frame the panel without {.arg held}, and with {.val {panel$held$names}} among the
                                   covariates."
  abort_unsupported(c("{what} does not know of a treatment that is held.",
                      x = "This panel holds {.val {panel$held$names}}.", i = instead), call = call)
}
