# Exact and coarsened matching: cells of equal (or binned) values, weighed like strata (Methods, "Matching").

cell_sets <- function(x, method, covariates, bins, call) {
  study <- study_of(x)
  found <- cells_of(x, method, covariates, bins, call)
  codes <- found$code
  kept <- design_kept(x) & sampling_weight(study) > 0
  both <- intersect(codes[kept & study$z == 1L], codes[kept & study$z == 0L])
  if (length(both) == 0L) {
    abort_input(c(
      "No cell holds both treated and control units.",
      x = "The {length(found$names)} covariates make {length(unique(codes[kept]))} cells of {sum(kept)} units.",
      i = "Use fewer covariates or wider bins."
    ), call = call)
  }
  inside <- kept & codes %in% both
  set <- match(codes, unique(codes[inside]))
  set[!inside] <- NA_integer_
  s <- kept_weight(x) * inside
  weight <- core_stratum_weight(set, study$z, s, study$estimand)
  weight <- core_scale_other_arm(weight, study$z, s, study$estimand)
  step <- list(verb = "group", label = cell_label(method, covariates, found$names), method = method,
               covariates = covariates, bins = bins)
  design <- new_design(x, step[!vapply(step, is.null, NA)], kind = "cells", kept = inside, weight = weight, set = set,
                       weighing = list(method = "cells", bins = found$bins, free = TRUE),
                       note = pair_note(study, inside, design_kept(x)), reason = 2L * (design_kept(x) & !inside))
  log_design(design, "group", sprintf("%d sets; without an exact partner: %d treated, %d control", length(both),
                                      sum(design$reason > 0L & study$z == 1L), sum(design$reason > 0L & study$z == 0L)),
             step[c("method", "covariates", "bins")])
}

# list(code: of the cell of every study row, names: of the covariates, bins: see bin_table()).
cells_of <- function(x, method, covariates, bins, call) {
  study <- study_of(x)
  names <- cell_covariates(study, covariates, call)
  check_bin_names(bins, names, call)
  parts <- lapply(stats::setNames(nm = names), function(name) {
    column <- study$columns[[name]]
    if (method == "exact") return(exact_bins(column))
    coarsened_bins(column, name, bins[[name]], x, call)
  })
  list(code = Reduce(core_group_codes, lapply(parts, `[[`, "code")), names = names, bins = bin_table(parts))
}

cell_label <- function(method, covariates, names) {
  sprintf("%s matching%s", method, if (is.null(covariates)) "" else paste(" on", and_list(names)))
}

cell_covariates <- function(study, covariates, call) {
  if (is.null(covariates)) return(names(study$columns))
  if (rlang::is_formula(covariates)) covariates <- all.vars(covariates)
  unknown <- setdiff(covariates, names(study$columns))
  if (length(unknown) == 0L && is.character(covariates) && length(covariates) > 0L) return(unique(covariates))
  abort_input(c("{.arg covariates} must be covariates of the study.", x = "{.val {unknown}} {?is/are} not.",
                i = "It has {.val {names(study$columns)}}."), unknown = unknown, call = call)
}

check_bin_names <- function(bins, names, call) {
  if (is.null(bins)) return(invisible(bins))
  stray <- setdiff(names(bins), names)
  if (is_named_list(bins) && length(stray) == 0L) return(invisible(bins))
  abort_input(c("{.arg bins} must be a list named by covariates.",
                x = if (length(stray) > 0L) "{.val {stray}} {?is/are} not among them.",
                i = "For example list(boat_length = 5)."), call = call)
}

# A binned column: code per study row, labels of the codes. Missing values have a bin of their own.
exact_bins <- function(column) {
  values <- column$values
  levels <- sort(unique(values))
  labels <- if (column$kind == "factor") column$levels[levels] else format(levels, trim = TRUE)
  with_missing_bin(match(values, levels), labels, column$flag)
}

with_missing_bin <- function(code, labels, flag) {
  if (is.null(flag) || !any(flag > 0)) return(list(code = code, labels = labels))
  code[flag > 0] <- length(labels) + 1L
  list(code = code, labels = c(labels, missing_level))
}

coarsened_bins <- function(column, name, bins, x, call) {
  if (column$kind == "factor") return(level_bins(column, name, bins, call))
  if (column$kind == "binary" && is.null(bins)) return(exact_bins(column))
  inside <- kept_weight(x) > 0
  range <- range(column$values[inside])
  cuts <- cut_points(bins, range, sum(inside), name, call)
  code <- findInterval(column$values, cuts) + 1L
  ends <- number_text(c(range[1L], cuts, range[2L]))
  with_missing_bin(code, paste(ends[-length(ends)], "to", ends[-1L]), column$flag)
}

cut_points <- function(bins, range, n, name, call) {
  bins <- unlist(bins)
  if (is.null(bins)) bins <- ceiling(log2(n) + 1)  # Sturges (1926)
  if (are_rising(bins) && length(bins) > 1L) return(bins)
  if (are_rising(bins) && bins >= 1 && bins == round(bins)) {
    return(seq(range[1L], range[2L], length.out = bins + 1L)[-c(1L, bins + 1L)])
  }
  abort_input(c("{.arg bins} of {.val {name}} must be a whole number of bins, or two or more rising cut points.",
                x = "It is {describe_value(bins)}."), column = name, call = call)
}

are_rising <- function(x) is.numeric(x) && all(is.finite(x)) && !is.unsorted(x, strictly = TRUE)

level_bins <- function(column, name, groups, call) {
  if (is.null(groups)) return(exact_bins(column))
  groups <- lapply(groups, as.character)
  named <- unlist(groups)
  unknown <- setdiff(named, column$levels)
  if (length(unknown) > 0L || anyDuplicated(named) > 0L) {
    abort_input(c("{.arg bins} of {.val {name}} must be groups of its levels, each level once.",
                  x = "Its levels are {.val {column$levels}}."), column = name, call = call)
  }
  groups <- c(groups, as.list(setdiff(column$levels, named)))
  code <- rep(seq_along(groups), lengths(groups))[match(column$levels, unlist(groups))]
  list(code = code[column$values], labels = vapply(groups, paste, "", collapse = ", "))
}

# The bins of an exact or coarsened match, NULL for other designs.
bins_of <- function(design) design$weighing$bins

bin_table <- function(parts) {
  rows <- Map(function(part, name) {
    data.frame(covariate = name, bin = seq_along(part$labels), holds = part$labels,
               units = tabulate(part$code, length(part$labels)))
  }, parts, names(parts))
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}

# The largest sample of equally many treated and controls within the balance limits, by integer programming.
cardinality_sample <- function(x, covariates, tolerance, seconds, call = rlang::caller_env()) {
  refuse_remote(x, call)
  check_number(tolerance, min = 0, call = call)
  check_number(seconds, min = 0, open = TRUE, call = call)
  study <- study_of(x)
  check_cardinality(study, call)
  names <- cell_covariates(study, covariates, call)
  rows <- level_matrix(study$columns[names])
  kept <- design_kept(x)
  reference <- reference_sds(rows, study)
  varies <- reference > 0
  found <- largest_balanced(rows[kept, varies, drop = FALSE], study$z[kept], tolerance * reference[varies], seconds)
  if (sum(found$chosen) == 0L) {
    abort_kind("infeasible", c(
      "No sample within the balance limit was found{if (!found$proven) paste0(' in ', seconds, ' seconds')}.",
      i = "Allow a larger {.arg tolerance}, more {.arg seconds}, or fewer {.arg covariates}."
    ), call = call, .envir = environment())
  }
  inside <- kept
  inside[kept] <- found$chosen
  label <- sprintf("cardinality matching (|SMD| within %s%s)", format(tolerance),
                   if (found$proven) "" else ", best found in time")
  step <- list(verb = "group", label = label, method = "cardinality", tolerance = tolerance, proven = found$proven)
  if (!is.null(covariates)) step$covariates <- covariates
  design <- new_design(x, step, kind = "weights", kept = inside, weight = as.double(inside),
                       weighing = list(method = "cardinality", free = TRUE),
                       note = pair_note(study, inside, kept), reason = as.integer(kept & !inside))
  log_design(design, "group", sprintf("%d of each arm%s", sum(found$chosen) / 2L,
                                      if (found$proven) ", proven largest" else ", best found in time"),
             list(method = "cardinality", tolerance = tolerance, seconds = seconds))
}

check_cardinality <- function(study, call) {
  if (!is.null(study$s)) {
    abort_unsupported(c("{.code method = \"cardinality\"} can't use sampling weights.",
                        i = "Use {.code weigh_units(x, \"stable\")}, or frame the study without."), call = call)
  }
  if (rlang::is_installed("Rglpk")) return(invisible(study))
  abort_unsupported(c("Cardinality matching needs the package {.pkg Rglpk}.",
                      i = "Install it with {.code install.packages(\"Rglpk\")}."), call = call)
}

# x: n x p; limits: p, the largest difference in means. maximise the number of chosen treated, as many controls,
# |sum over treated - sum over controls| <= limit times the number of treated. list(chosen, proven).
largest_balanced <- function(x, z, limits, seconds) {
  side <- 2 * z - 1
  x <- sweep(x, 2L, colMeans(x))  # sums of large numbers lose digits
  gap <- t(x * side)
  slack <- outer(limits, as.double(z))
  constraints <- rbind(gap - slack, -gap - slack, side)
  p <- ncol(x)
  solution <- Rglpk::Rglpk_solve_LP(
    obj = as.double(z), mat = constraints, dir = c(rep("<=", 2L * p), "=="), rhs = numeric(2L * p + 1L),
    types = rep("B", nrow(x)), max = TRUE, control = list(presolve = TRUE, tm_limit = round(1000 * seconds))
  )
  chosen <- round(solution$solution) == 1
  met <- all(constraints %*% chosen <= c(rep(1e-9 * nrow(x), 2L * p), 0)) && sum(side * chosen) == 0
  list(chosen = if (met) chosen else rep(FALSE, nrow(x)), proven = solution$status == 0L && met)
}
