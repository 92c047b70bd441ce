# %% [markdown]
# # Indrel as a library
#
# Run `indrel demo` first: its snapshot is the newest in `indrel-runs/`, and this script asks it questions. Each `# %%`
# is a cell for editors that know notebooks; `python docs/library.py` runs them all.

# %%
import pandas as pd

import indrel

pd.set_option("display.width", 160, "display.max_columns", None, "display.max_colwidth", 60)
audit = indrel.open_snapshot()  # or indrel.audit("https://www.sarnfell.example/"), which reads the site
print(audit.verdict.addresses, "addresses, complete:", audit.complete)

# %% States by section: one column a crawler, named by its token
addresses = audit.addresses()
print(pd.crosstab(addresses["section"], addresses["*"]).sort_values("open", ascending=False).head(8))

# %% What is wanted, and cannot be listed: where to begin, by the pages that link there
lost = addresses[(addresses["want"] == "show") & (addresses["*"] != "open")]
print(lost.sort_values("followed", ascending=False)[["url", "*", "status", "followed", "clicks"]].head(8))

# %% Crawlers that see an address otherwise than others
differ = addresses[addresses["googlebot"].astype(str) != addresses["*"].astype(str)]
print(differ[["url", "googlebot", "bingbot", "*"]].head(8))

# %% Findings: the line that does each
findings = audit.findings()
print(findings[findings["severity"] == "stop"][["check", "url", "where", "line", "text"]])
print(findings.groupby(["cls", "severity"]).size().unstack(fill_value=0))

# %% Causes: what one edit each would mend
for cause in audit.causes[:5]:
    print(f"{cause.id} {cause.check} in {cause.section}, {cause.count}: {cause.mend}")

# %% One address, step by step
explained = audit.explain("/tag/winter/")
for step in explained.steps["*"]:
    print(step.step, "->", step.outcome)

# %% Reports, and the end
audit.write("audit.xlsx", "audit.svg")
audit.close()
