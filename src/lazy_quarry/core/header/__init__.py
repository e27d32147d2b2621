"""The job header: the TOML block in a script that holds its request, in PEP 723's inline-metadata form.

``block`` finds it, ``keys`` reads its values, ``check`` makes a request of them and says what is wrong,
``edit`` changes one key and nothing else.
"""
