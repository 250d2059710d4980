import { cleanup, configure } from '@testing-library/react';
import { afterAll, afterEach, vi } from 'vitest';

// Every file of tests begins with this; files of a process share what they import, and leave nothing else to one another.
afterEach(cleanup);
afterAll(() => {
  vi.restoreAllMocks();
});

// A busy machine is slow, not wrong; a page printed whole says little; and asking of each element whether it is hidden takes longer than all else.
configure({ asyncUtilTimeout: 10_000, defaultHidden: true, getElementError: (message) => new Error(message ?? '') });

// Names of controls ask of every element whether it is shown; to go through all style sheets each time takes a fifth of a test, and none of ours hides by a sheet.
vi.stubGlobal('getComputedStyle', (element: HTMLElement) => element.style);
