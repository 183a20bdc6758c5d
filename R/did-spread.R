# Errors that reach beyond clusters, on request: a second column to cluster by, or units that are near each other
# (core-near.R). `spread` of the settings: list(kind "crossed" or "near", names, and code per unit (or rows: code per
# row, where a column changes within units: code then is per piece of the source), or place per unit with reach).

did_spread <- function(panel, given, inference, entry, collapse, call) {
  if (is.null(given$crossed) && is.null(given$near) && is.null(given$reach)) return(NULL)
  if (!is.null(given$crossed) && !is.null(given$near)) {
    abort_input(c("{.arg crossed} and {.arg near} are two ways to say what moves together.", i = "Give one of them."),
                call = call)
  }
  if (is.null(given$near) != is.null(given$reach)) {
    abort_input(c("{.arg near} and {.arg reach} go together.",
                  i = "For example {.code near = c(\"east\", \"north\"), reach = 50}, in the columns' units."),
                call = call)
  }
  what <- if (is.null(given$crossed)) "near" else "crossed"
  other <- if (inference != "analytic") sprintf("inference = \"%s\"", inference) else if (collapse != "no")
    sprintf("collapse = \"%s\"", collapse) else if (isTRUE(given$small_sample %in% c("CR2", "CR3")))
      sprintf("small_sample = \"%s\"", given$small_sample)
  if (!is.null(other)) {
    abort_unsupported(c("{.arg {what}} makes analytic errors; {.code {other}} does not know it.",
                        i = "Leave one of them out."), call = call)
  }
  followed <- panel$repeats || (what == "crossed" && entry$by_rows)
  if (is_remote(panel) || !followed || !entry$lone_errors) {
    abort_unsupported(c("{.arg {what}} needs units followed in memory, and an estimator whose errors are sums over
                         them.",
                        i = if (what == "crossed" && !is_remote(panel)) "In a repeated cross-section use one of
                                                                          {.val {row_estimators()}}.",
                        i = "Or leave it out."), call = call)
  }
  if (what == "crossed") return(crossed_codes(panel, given$crossed, entry, call))
  near_places(panel, given$near, given$reach, call)
}

# Estimators whose errors are sums over rows, so that clusters may cut units.
row_estimators <- function() names(Filter(function(entry) entry$by_rows, did_estimators))

crossed_codes <- function(panel, name, entry, call) {
  check_string(name, arg = "crossed", call = call)
  check_columns(name, panel$data, "crossed", call)
  codes <- group_codes(panel$data[[name]][panel$rows], name, "cluster", panel$rows, call)
  codes <- as.vector(codes)
  whole <- panel$repeats && all(codes == codes[panel$first_row][panel$unit])
  if (!whole) check_cuts_units(panel, name, codes, entry, call)
  own <- codes[panel$first_row]
  count <- length(unique(codes))
  if (count < 2L) {
    abort_input(c("Clusters to cross with must be at least 2.", x = "{.val {name}} has {count}."), column = name,
                call = call)
  }
  if (whole) list(kind = "crossed", names = name, code = own) else list(kind = "crossed", names = name, rows = codes)
}

check_cuts_units <- function(panel, name, codes, entry, call) {
  if (is_carried(panel)) {
    abort_unsupported(c("The weights of a design belong to units, and {.val {name}} changes within them.",
                        i = "Name a column in {.arg crossed} that stays the same."), call = call)
  }
  if (entry$by_rows) return(invisible(panel))
  moved <- unique(panel$unit[codes != codes[panel$first_row][panel$unit]])
  abort_unsupported(c("A cell's errors are sums over whole units, and {.val {name}} changes within them.",
                      x = "It does in {length(moved)}: {.val {first_rows(panel$unit_labels[moved])}}.",
                      i = "Use {.code estimator = \"imputation\"}, \"interaction\" or a regression, whose errors are
                           sums over rows, or a column in {.arg crossed} that stays the same."), call = call)
}

near_places <- function(panel, names, reach, call) {
  if (!is.character(names) || length(names) != 2L || anyNA(names)) {
    abort_input(c("{.arg near} must be the names of two columns that tell where a unit is.",
                  i = "For example {.code near = c(\"east\", \"north\")}, in kilometres."), call = call)
  }
  check_columns(names, panel$data, "near", call)
  check_number(reach, min = 0, open = TRUE, arg = "reach", call = call)
  place <- vapply(names, function(name) {
    x <- panel$data[[name]][panel$rows]
    bad <- if (is.numeric(x)) which(!is.finite(x)) else seq_along(x)
    if (length(bad) > 0L) {
      abort_input(c("{.val {name}} must be a finite number in every row.",
                    x = "It is not in {length(bad)} row{?s}; first: {first_rows(panel$rows[bad])}."), column = name,
                  rows = panel$rows[bad], call = call)
    }
    check_of_units(x, panel, name, call)
    as.double(x[panel$first_row])
  }, numeric(length(panel$cohort)))
  list(kind = "near", names = names, place = matrix(place, ncol = 2L), reach = reach)
}

# list(vcov, df, alone, lent) as did_vcov() wants them.
spread_vcov <- function(source, combine, shift, cluster, spread) {
  if (spread$kind == "near") {
    found <- core_near_vcov(source, combine, shift, spread$place, spread$reach)
    return(list(vcov = found$vcov, df = rep(core_known_df(found$blocks - 1), ncol(combine)), alone = integer(),
                lent = FALSE))
  }
  used <- core_units_in_use(source)
  count <- min(length(unique(spread$code[used])), length(unique(cluster[used])))
  list(vcov = core_crossed_vcov(source, combine, shift, cluster, spread$code),
       df = rep(core_known_df(count - 1), ncol(combine)), alone = integer(), lent = FALSE)
}

# How it is told, and what few blocks or clusters deserve.
spread_words <- function(source, cluster, name, spread) {
  used <- core_units_in_use(source)
  if (spread$kind == "crossed") {
    counts <- c(length(unique(cluster[used])), length(unique(spread$code[used])))
    warn_few_spread(min(counts), sprintf("clusters in %s", dQuote(c(name, spread$names)[which.min(counts)], FALSE)))
    return(sprintf("clustered by %s (%s) and by %s (%s) at once", name, count_text(counts[1L]), spread$names,
                   count_text(counts[2L])))
  }
  blocks <- nrow(unique(core_place_cells(spread$place[used, , drop = FALSE], spread$reach)))
  warn_few_spread(blocks, "blocks as wide as the reach")
  sprintf("units within %s of each other by %s move together, the nearer the more (%s blocks as wide)",
          format(spread$reach), and_list(spread$names), count_text(blocks))
}

warn_few_spread <- function(count, what) {
  if (count >= 20L) return(invisible(count))
  warn_kind("few_clusters", c("Only {count} {what}: standard errors tend to be too small.",
                              i = "Intervals use t with {count - 1} degree{?s} of freedom."))
}
