/** The look of Pine Cart, once: tokens for light and dark. Brand green never marks an outcome. */
import { theme, type ThemeConfig } from 'antd'

const shared = {
  borderRadius: 4,
  fontFamily: 'system-ui, -apple-system, "Segoe UI", "DejaVu Sans", sans-serif',
  fontFamilyCode: 'ui-monospace, "DejaVu Sans Mono", Menlo, monospace',
  wireframe: false,
}

export const light: ThemeConfig = {
  algorithm: theme.defaultAlgorithm,
  token: {
    ...shared,
    colorPrimary: '#2f6b4f',
    colorInfo: '#2f6b4f',
    colorLink: '#2f6b4f',
    colorLinkHover: '#1f4e39',
    colorBgLayout: '#faf9f6',
    colorBgContainer: '#fffefb',
    controlItemBgActive: '#eef3ec',
    controlItemBgActiveHover: '#e5ede2',
    colorText: '#23271f',
    colorTextSecondary: '#5d5c54',
    colorTextDescription: '#5d5c54',
    colorTextPlaceholder: '#6b6a62',
    colorTextTertiary: '#66655d',
    colorBorder: '#cfcbbf',
    colorBorderSecondary: '#e5e2d9',
    colorSuccess: '#2d6a8a',
    colorWarning: '#855c0c',
    colorError: '#a8322a',
  },
}

/** On dark the library would dim the brand colour until it can't be read. */
const brightPine: typeof theme.darkAlgorithm = (seed, before) => ({
  ...theme.darkAlgorithm(seed, before),
  colorPrimary: '#7fbf9c',
  colorPrimaryHover: '#a5d6bb',
  colorPrimaryActive: '#6aa987',
  colorPrimaryText: '#7fbf9c',
})

export const dark: ThemeConfig = {
  algorithm: brightPine,
  token: {
    ...shared,
    colorPrimary: '#7fbf9c',
    colorInfo: '#7fbf9c',
    colorLink: '#7fbf9c',
    colorLinkHover: '#a5d6bb',
    colorBgLayout: '#171a18',
    colorBgContainer: '#1e2220',
    controlItemBgActive: '#27352d',
    controlItemBgActiveHover: '#2d3f35',
    colorBgElevated: '#252a27',
    colorText: '#e6e4dc',
    colorTextSecondary: '#b0b1a8',
    colorTextDescription: '#b0b1a8',
    colorTextPlaceholder: '#9b9c93',
    colorTextTertiary: '#a1a29a',
    colorBorder: '#454a46',
    colorBorderSecondary: '#343935',
    colorSuccess: '#7db8d6',
    colorWarning: '#e0b45c',
    colorError: '#f0897f',
  },
  components: { Button: { primaryColor: '#12241b' } },
}
