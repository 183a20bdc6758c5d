# Designs carried over into a panel: matched or weighted on rows as they were before treatment (panel-baseline.R), then
# differenced. Weights of one design are those of the panel's units; designs by cohort weigh the units of each cohort's
# cells. Units that a design leaves out stay as units of weight 0 that stand for nobody: they may have helped to
# estimate the weights. How the weights were estimated enters every error through the source (core-carried.R).

# What a design hands over: list(study, v: weights of its units, sampling weights included, z, label, estimand, hash,
# set: of each unit, NULL where there are none, reuses: do units stand in several sets? nuisance: of v, NULL where the
# weights are known, given: what its errors take as given, held: what draws take as given, made: the design itself).
carried_parts <- function(x, call) UseMethod("carried_parts")

#' @exportS3Method
carried_parts.default <- function(x, call) { # nolint: object_name_linter. An S3 method.
  abort_input(c("{.arg design} must be a design, or a list of designs named by cohort.",
                x = "It is {describe_value(x)}.",
                i = "Make one of {.fn baseline_rows}: {.fn frame_study}, then for example {.fn weigh_units}."),
              call = call)
}

# Weights of the design's rows when it is made anew on a draw that has each of them `counts` times, each standing for
# `factor` rows.
redrawn_weights <- function(x, counts, factor) UseMethod("redrawn_weights")

# fields: those of new_panel(); the same with the design: carried (list(designs, by_cohort, weight: per design the
# weight of every unit)), designs (hashes), copies, s and cluster.
with_design <- function(fields, design, call) {
  if (is.null(design)) return(c(fields, list(carried = NULL, designs = NULL, copies = NULL)))
  check_can_carry(fields, call)
  by_cohort <- is.list(design) && !inherits(design, c("twin_study", "twin_design"))
  treated <- which(is_treated_cohort(fields))
  if (by_cohort) check_design_names(names(design), fields, treated, call)
  given <- if (by_cohort) design else list(design)
  parts <- lapply(given, carried_parts, call = call)
  cohorts <- if (by_cohort) lapply(match(names(design), fields$cohorts$label), identity) else list(treated)
  designs <- Map(function(part, codes) matched_to_units(fields, part, codes, by_cohort, call), parts, cohorts)
  if (by_cohort) designs <- designs[order(unlist(cohorts))]
  check_one_estimand(designs, call)
  units <- length(fields$cohort)
  weight <- weights_by_unit(designs, units)
  fields$s <- own_weights_of(designs, weight, fields)[fields$unit]
  fields$copies <- as.integer(in_some_design(weight))
  set <- if (!by_cohort) designs[[1L]]$set
  if (!is.null(set) && is_own_cluster(as.vector(fields$cluster))) {
    fields$cluster <- set_clusters(fields, designs[[1L]], units)
  }
  c(fields[setdiff(names(fields), "copies")], list(
    copies = fields$copies, carried = list(designs = unname(designs), by_cohort = by_cohort, weight = weight),
    designs = unname(vapply(designs, `[[`, "", "hash"))
  ))
}

check_can_carry <- function(fields, call) {
  if (!fields$repeats) {
    abort_unsupported(c("A design is carried by unit, and units of a repeated cross-section are seen once.",
                        i = "Name {.arg covariates}, and use {.arg adjustment} of {.fn measure_did}."), call = call)
  }
  if (is.null(fields$roles$frequency)) return(invisible(fields))
  abort_unsupported(c("With {.arg frequency} a row stands for several units, which have no names to carry weights by.",
                      i = "Give a row per unit and period."), call = call)
}

check_design_names <- function(names, fields, treated, call) {
  labels <- fields$cohorts$label[treated]
  if (is.null(names) || anyDuplicated(names) > 0L || !setequal(names, labels)) {
    missing <- setdiff(labels, names)
    stray <- setdiff(names, labels)
    abort_input(c("A list of designs must have one for each treated cohort, named by its label.",
                  x = if (length(missing) > 0L) "There is none for {.val {missing}}.",
                  x = if (length(stray) > 0L) "{.val {stray}} {?is/are} no treated cohort{?s}.",
                  i = "Cohorts without a design can be left out with {.arg subset}."), call = call)
  }
}

# The design's units as units of the panel. codes: treated cohorts it speaks of.
matched_to_units <- function(fields, part, codes, by_cohort, call) {
  name <- fields$roles$unit
  study <- part$study
  if (!name %in% names(study$data)) {
    abort_input(c("The design must be made on rows that name their unit.",
                  x = "Its data have no column {.val {name}}.", i = "Make them with {.fn baseline_rows}."),
                column = name, call = call)
  }
  ids <- as.character(study$data[[name]][study$rows])
  twice <- unique(ids[duplicated(ids)])
  if (length(twice) > 0L) {
    abort_input(c("The design must have one row per {name}.",
                  x = "{length(twice)} ha{cli::qty(length(twice))}{?s/ve} several: {.val {first_rows(twice)}}.",
                  i = "Make its rows with {.fn baseline_rows}."), units = twice, call = call)
  }
  unit <- match(ids, fields$unit_labels)
  stray <- ids[is.na(unit)]
  if (length(stray) > 0L) {
    abort_input(c("The design was made on other units than the panel's.",
                  x = "Not in the panel: {length(stray)} of {length(ids)}.", x = "First: {.val {first_rows(stray)}}.",
                  i = "Frame the panel on the same rows as that which {.fn baseline_rows} was given, or make the design
                       anew."), units = stray, call = call)
  }
  check_design_arms(fields, part, unit, codes, by_cohort, call)
  check_design_weight(fields, part, call)
  c(part, list(unit = unit, cohorts = codes))
}

# Treated in the design are those of the cohorts, and its controls are treated later or never.
check_design_arms <- function(fields, part, unit, codes, by_cohort, call) {
  cohort <- fields$cohort[unit]
  what <- if (by_cohort) sprintf("cohort \"%s\"", fields$cohorts$label[codes]) else "a treated cohort"
  wrong <- unit[part$z == 1L & !cohort %in% codes]
  if (length(wrong) > 0L) {
    labels <- fields$unit_labels[wrong]
    abort_input(c("Units that the design takes as treated must be of {what}.",
                  x = "{length(labels)} {?is/are} not: {.val {first_rows(labels)}}.",
                  i = "Make the design with {.fn baseline_rows}, whose column {.val treated} says who is."),
                units = labels, call = call)
  }
  wrong <- unit[part$z == 0L & fields$cohorts$position[cohort] <= min(fields$cohorts$position[codes])]
  if (length(wrong) > 0L) {
    labels <- fields$unit_labels[wrong]
    abort_input(c("Units that the design compares with must be treated later than {what}, or never.",
                  x = "{length(labels)} {?is/are} not: {.val {first_rows(labels)}}.",
                  i = "Make the design with {.fn baseline_rows}."), units = labels, call = call)
  }
}

check_design_weight <- function(fields, part, call) {
  if (is.null(fields$roles$weight) || !is.null(part$study$s)) return(invisible(part))
  abort_input(c("The panel has the weight {.val {fields$roles$weight}}, and the design was made without one.",
                i = "Name it in the {.fn frame_study} that the design comes from: {.fn baseline_rows} keeps it."),
              call = call)
}

check_one_estimand <- function(designs, call) {
  asked <- unique(vapply(designs, `[[`, "", "estimand"))
  if (length(asked) == 1L) return(invisible(designs))
  abort_input(c("The designs of all cohorts must have one estimand.", x = "They have {.val {asked}}."), call = call)
}

# What averages over cohorts weigh a unit by: its weight in the design of its own cohort; comparison units by the first
# design that has them.
own_weights_of <- function(designs, weight, fields) {
  out <- Reduce(function(known, more) ifelse(known > 0, known, more), weight)
  for (k in seq_along(designs)) {
    own <- fields$cohort %in% designs[[k]]$cohorts
    out[own] <- weight[[k]][own]
  }
  out * in_some_design(weight)
}

# Per design the weights of all units.
weights_by_unit <- function(designs, units) {
  unname(lapply(designs, function(part) core_sums_by(part$v, part$unit, units)))
}

in_some_design <- function(weight) Reduce(`|`, lapply(weight, `>`, 0))

# Pairs and sets as clusters, called by their first unit; units outside any stand alone.
set_clusters <- function(fields, part, units) {
  code <- -seq_len(units)
  known <- !is.na(part$set) & part$v > 0
  code[part$unit[known]] <- part$set[known]
  first <- which(!duplicated(code))
  structure(match(code, code[first]), labels = fields$unit_labels[first], name = "set", by = "unit")
}

are_sets <- function(cluster) identical(attr(cluster, "by"), "unit")

# The panel on a draw of its units, with the designs made anew.
redrawn_panel <- function(panel, counts, factor) {
  designs <- lapply(panel$carried$designs, function(part) {
    part$v <- redrawn_weights(part$made, counts[part$unit], factor[part$unit])
    part["nuisance"] <- list(NULL)
    part
  })
  weight <- weights_by_unit(designs, length(panel$cohort))
  amend(panel, s = own_weights_of(designs, weight, panel)[panel$unit],
        carried = list(designs = designs, by_cohort = panel$carried$by_cohort, weight = weight))
}

carried_draw_words <- function(panel) {
  held <- unique(unlist(lapply(panel$carried$designs, `[[`, "held")))
  several <- length(panel$carried$designs) > 1L
  c(sprintf("the design%s made anew on each", if (several) "s" else ""),
    if (length(held) > 0L) sprintf("the %s as given", and_list(held)))
}

is_carried <- function(panel) !is.null(panel$carried)

# Which of the designs weighs a cohort's cells.
design_of_cohort <- function(panel, cohort) {
  match(TRUE, vapply(panel$carried$designs, function(part) cohort %in% part$cohorts, NA))
}

# Weights of all units in the cells of a cohort; s: unit_weight().
cell_weights <- function(panel, s, cohort) {
  if (!is_carried(panel)) s else panel$carried$weight[[design_of_cohort(panel, cohort)]]
}

# Is any comparison unit of the designs treated later?
compares_later <- function(panel) {
  any(vapply(panel$carried$designs, function(part) {
    any(is.finite(panel$cohorts$position[panel$cohort[part$unit[part$z == 0L & part$v > 0]]]))
  }, NA))
}

# The source with the estimation of the weights. cohorts: code per cell; NULL will do where one design weighs all.
carried_source <- function(panel, source, cohorts = NULL) {
  if (!is_carried(panel)) return(source)
  designs <- Filter(function(part) !is.null(part$nuisance), panel$carried$designs)
  if (length(designs) == 0L) return(source)
  core_carried_source(source, lapply(designs, function(part) {
    list(cells = if (panel$carried$by_cohort) as.double(cohorts %in% part$cohorts),
         blocks = as.double(seq_len(nrow(panel$cohorts)) %in% part$cohorts), unit = part$unit, v = part$v,
         nuisance = part$nuisance)
  }))
}

carried_label <- function(panel) {
  designs <- panel$carried$designs
  sparing_estimand(and_list(unique(vapply(designs, `[[`, "", "label"))), designs[[1L]]$estimand)
}

# What prints and reports say of the designs: one line each.
carried_lines <- function(panel) {
  designs <- panel$carried$designs
  vapply(designs, function(part) {
    count <- function(arm) count_text(sum(part$v[part$z == arm] > 0))
    sprintf("%s%s; %s treated and %s comparison units in",
            if (panel$carried$by_cohort) sprintf("from %s: ", panel$cohorts$label[part$cohorts]) else "", part$label,
            count(1L), count(0L))
  }, "")
}
