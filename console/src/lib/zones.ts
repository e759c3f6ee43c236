// zones are the time zones that the browser knows, for choosing one.
export const zones: string[] = "supportedValuesOf" in Intl ? Intl.supportedValuesOf("timeZone") : [];
