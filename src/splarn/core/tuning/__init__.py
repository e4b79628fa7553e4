"""Trials of configurations, the laws fitted to them, and the choice by forecast."""
