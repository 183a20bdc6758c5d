# The causal assumptions of a study: its graph, what suffices to adjust for, and what the data say of its claims.

# parts$assumed: graph_facts(), where they are known already.
graph_section <- function(parts) {
  study <- parts$study
  graph <- study$graph
  if (is.null(graph)) return(NULL)
  facts <- if (is.null(parts$assumed)) graph_facts(study) else parts$assumed
  ends <- facts$ends
  sets <- facts$sets
  check <- facts$check
  adjusted <- check$set
  beyond <- setdiff(names(study$columns), rownames(graph$parents))
  new_section(
    "assumptions", "Assumptions",
    text_block(set_sentence(check), if (length(beyond) > 0L) {
      sprintf("Not in the graph, and adjusted for as well: %s.", and_list(beyond))
    }, tone = if (check$sufficient) "plain" else "warning"),
    if (!isTRUE(parts$drawn)) figure_block(parts$figures, "graph", plot(named_graph(graph, ends), adjusted = adjusted),
                 sprintf("Causal graph: %s, %s", plural(nrow(graph$parents), "node"),
                         plural(sum(graph$parents), "arrow")), height = 5.5),
    table_block(sets_table(sets), sprintf("What suffices to adjust for, by the graph: %s on %s", ends[1L], ends[2L]),
                running = 2L),
    if (nrow(check$outside) > 0L) {
      fold_block("Why the others are not adjusted for",
                 table_block(data.frame(Node = check$outside$node, Reason = check$outside$reason), "Not adjusted for",
                             running = 2L))
    },
    claims_blocks(graph, study, isTRUE(parts$opened) || !is.na(summary(logbook(study))$opened))
  )
}

# What a study's graph says of its covariates: list(ends: treatment and outcome, sets: sets_to_adjust(), check:
# explain_set()).
graph_facts <- function(study) {
  ends <- c(study$roles$treatment, study$roles$outcome[1L])
  list(ends = ends, sets = suppressWarnings(sets_to_adjust(study$graph, ends[1L], ends[2L], most = 100)),
       check = explain_set(study$graph, adjusted_nodes(study), ends[1L], ends[2L]))
}

# The study's covariates that are nodes.
adjusted_nodes <- function(study) {
  nodes <- setdiff(observed_nodes(study$graph), c(study$roles$treatment, study$roles$outcome[1L]))
  intersect(names(study$columns), nodes)
}

# With the study's treatment and outcome as exposure and outcome.
named_graph <- function(graph, ends) {
  graph$exposure <- ends[1L]
  graph$outcome <- ends[2L]
  graph
}

set_sentence <- function(check) {
  set <- if (length(check$set) == 0L) "Adjusting for nothing" else paste("Adjusting for", and_list(check$set))
  if (check$sufficient) {
    return(paste(set, "suffices by this graph: every back-door path is blocked, and no effect of the treatment is",
                 "held."))
  }
  paste(c(
    sprintf("%s does not suffice by this graph.", set),
    if (length(check$descendants) > 0L) sprintf("The treatment causes %s.", and_list(check$descendants)),
    if (length(check$open) > 0L) sprintf("Open: %s.", paste(unlist(check$open), collapse = "; ")),
    if (length(check$opened) > 0L) sprintf("Opened by adjusting: %s.", and_list(check$opened))
  ), collapse = " ")
}

most_sets_shown <- 20L

sets_table <- function(sets) {
  if (length(sets) == 0L) {
    return(data.frame(Set = "none suffices", Columns = paste("open whatever is adjusted for:",
                                                             paste(unlist(attr(sets, "open")), collapse = "; "))))
  }
  shown <- utils::head(unclass(sets), most_sets_shown)
  words <- vapply(shown, function(set) if (length(set) == 0L) "nothing need be" else paste(set, collapse = ", "), "")
  rest <- length(sets) - length(shown)
  data.frame(Set = c(seq_along(shown), if (rest > 0L) "..."),
             Columns = c(words, if (rest > 0L) sprintf("%d more", rest)))
}

# What the graph says of data, tested in those of the study; claims alone for a table in a database. What is claimed of
# an outcome is tested when that has been opened, not before.
# most: claims times rows that are tested here.
claims_blocks <- function(graph, study, opened, most = 1e7) {
  claims <- testable_claims(graph)
  if (nrow(claims) == 0L) return(text_block(format(claims), tone = "soft"))
  untested <- function(why) {
    all_blocks(text_block(why, tone = "soft"),
               fold_block("What the graph claims", text_block(claim_statements(claims))))
  }
  lacking <- setdiff(observed_nodes(graph), names(study$data))
  if (is_remote(study)) return(untested("Claims are tested on rows in memory."))
  if (length(lacking) > 0L) {
    return(untested(sprintf("Claims were not tested: no column is named %s.", and_list(lacking))))
  }
  if (nrow(claims) * length(study$rows) > most) {
    return(untested(sprintf("%s on %s rows would take long: test_claims() tests them.", plural(nrow(claims), "claim"),
                            count_text(length(study$rows)))))
  }
  waits <- if (opened) rep(FALSE, nrow(claims)) else claims_about(claims, study$roles$outcome)
  if (opened) for (name in study$roles$outcome) log_opening(study, name, "test_claims")
  later <- if (any(waits)) sprintf("%s about the outcome: tested when it is open.", plural(sum(waits), "more claim"))
  if (all(waits)) return(text_block(later, tone = "soft"))
  tested <- tryCatch(claims_tested(claims[!waits, ], study$data[study$rows, ], "holm", 0.05), twin_error = identity)
  if (inherits(tested, "twin_error")) {
    return(untested(paste("Claims were not tested:", sub("\n.*", "", cli::ansi_strip(conditionMessage(tested))))))
  }
  table <- data.frame(Claim = claim_statements(tested), Verdict = tested$verdict,
                      "Adjusted p" = p_text(tested$p.adjusted), Test = tested$test,
                      "Complete rows" = count_text(tested$n), check.names = FALSE)
  all_blocks(text_block(claims_verdict(tested)), text_block(later, tone = "soft"),
             fold_block("Claims of the graph, tested",
                        table_block(table, "Strongest evidence against the graph first", running = 1L)))
}

claims_about <- function(claims, nodes) {
  claims$x %in% nodes | claims$y %in% nodes | vapply(claims$given, function(set) any(set %in% nodes), NA)
}

# A few words for a step of a page.
graph_verdict <- function(parts) {
  if (parts$assumed$check$sufficient) "covariates suffice" else "covariates do not suffice"
}

# Minimal sets as plain character vectors, the smallest first.
plain_sets <- function(sets) lapply(utils::head(unclass(sets), most_sets_shown), as.character)
