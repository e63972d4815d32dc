-- Kivvet in Neovim 0.7 or later: put this into init.lua, or read it with  :luafile neovim.lua
local function of_a_book(path)
  local folder = vim.fn.fnamemodify(path, ':p:h')
  while folder ~= '' do
    if vim.fn.filereadable(folder .. '/book.toml') == 1 then return folder end
    local above = vim.fn.fnamemodify(folder, ':h')
    if above == folder then return nil end
    folder = above
  end
end

local clients = {}
vim.diagnostic.config({ severity_sort = true })

vim.api.nvim_create_autocmd({ 'BufReadPost', 'BufNewFile' }, {
  pattern = { '*.toml', '*.csv' },
  callback = function(event)
    local folder = of_a_book(vim.api.nvim_buf_get_name(event.buf))
    if not folder then return end
    clients[folder] = clients[folder]
      or vim.lsp.start_client({ name = 'kivvet', cmd = { 'kivvet', 'serve' }, root_dir = folder })
    vim.lsp.buf_attach_client(event.buf, clients[folder])
    local keys = { gd = 'definition', gr = 'references', K = 'hover', ['<leader>r'] = 'rename', ['<leader>f'] = 'code_action' }
    for key, action in pairs(keys) do
      vim.keymap.set('n', key, vim.lsp.buf[action], { buffer = event.buf })
    end
    vim.bo[event.buf].omnifunc = 'v:lua.vim.lsp.omnifunc'
  end,
})
