"""Networks on windows: how they learn (`learned`), and what each is made of (`architectures`)."""
