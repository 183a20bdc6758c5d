# Treatment of one kind in different doses: `dose` of the panel is list(name, amount: per unit, NA for those never
# treated).

has_dose <- function(panel) !is.null(panel$dose)

# Per row the dose of what is treated as a whole. treated: is the row under treatment?
doses_of_level <- function(x, name, level, treated, what, rows, call) {
  if (is.null(level)) {
    abort_input(c("Doses belong to units, or groups, that are seen over time.",
                  i = "Name {.arg unit}, or {.arg group} for what is treated as a whole."), call = call)
  }
  bad <- if (is.numeric(x)) which(treated & !(is.finite(x) & x > 0)) else which(treated)
  if (length(bad) > 0L) {
    abort_input(c("The dose {.val {name}} must be a number above 0 in every treated row.",
                  x = "It is not in {length(bad)} row{?s}; first: {first_rows(rows[bad])}.",
                  i = "Untreated rows may hold anything."), column = name, rows = rows[bad], call = call)
  }
  of_level <- rep(NA_real_, length(attr(level, "labels")))
  of_level[level[treated]] <- x[treated]
  varies <- which(treated & x != of_level[level])
  if (length(varies) > 0L) {
    labels <- attr(level, "labels")[unique(level[varies])]
    abort_input(c("Each {what} must have one dose, from its first treated period on.",
                  x = "{.val {name}} changes in {length(labels)} {what}{cli::qty(length(labels))}{?s}:
                       {.val {first_rows(labels)}}; first rows: {first_rows(rows[varies])}.",
                  i = "Amounts that change are followed with {.code switching = TRUE}, the column being the
                       {.arg treatment}."), units = labels, rows = rows[varies], column = name, call = call)
  }
  if (length(unique(stats::na.omit(of_level))) < 2L) {
    abort_input(c("There must be several doses.", x = "{.val {name}} is the same wherever there is treatment.",
                  i = "Leave out {.arg dose}."), column = name, call = call)
  }
  of_level[level]
}

check_can_dose <- function(dose, data, roles, switching, call) {
  check_string(dose, arg = "dose", call = call)
  check_columns(dose, data, "dose", call)
  if (!is.numeric(data[[dose]])) {
    abort_input("The dose {.val {dose}} must be numbers, not {.cls {class(data[[dose]])[1L]}}.", column = dose,
                call = call)
  }
  clash <- intersect(dose, unlist(roles[c("outcome", "time", "unit", "group", "first_treated")]))
  if (length(clash) > 0L) {
    abort_input("The dose {.val {clash}} can't have another role too.", column = clash, call = call)
  }
  if (!switching) return(invisible(dose))
  abort_unsupported(c("A treatment that switches tells its amounts by itself.", i = "Leave out {.arg dose}."),
                    call = call)
}

# Where the dose alone says who is treated: wherever it is above 0.
dose_as_treatment <- function(roles, dose) {
  if (!is.null(dose) && is.null(roles$treatment) && is.null(roles$first_treated)) roles$treatment <- dose
  roles
}

dose_units <- function(panel) which(is_treated_cohort(panel)[panel$cohort] & !is.na(panel$dose$amount))
